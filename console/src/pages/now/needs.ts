/** What needs somebody: each thing in words, with its figure and where it leads. The worst first. */
import type { AlertState, Allowances, ConfigDiagnostic, Now, Publication, Sites, Status } from "../../api/client";
import { bytes, count, dayName, percent } from "../../figures";
import type { Scope } from "../../scope";
import { figure } from "../../tables/table";
import { words } from "../../words";

export interface Need {
  key: string;
  severity: "trouble" | "attention";
  text: string;
  /** What is known besides, and what can be done about it. */
  more?: string;
  /** Where it leads: what of the scope is other there. */
  to?: Partial<Scope>;
}

/** What is known of the service, as far as it has been answered and may be seen. */
export interface Known {
  status: Status;
  now: Now;
  sites?: Sites;
  allowances?: Allowances;
  check?: ConfigDiagnostic[];
  alerts?: AlertState[];
  publications?: Publication[];
}

/** Failures are worth somebody's attention from this share of the last hour's requests on, and from this number. */
const FAILING_SHARE = 0.01;
const FAILING_LEAST = 5;
/** Days before its end that a certificate is spoken of. */
const CERTIFICATE_DAYS = 14;
/** The records are behind when they lack more of a log than this. */
const LAG = 4_000_000;

export function needsOf(known: Known): Need[] {
  const all = [
    ...raised(known.alerts),
    ...failing(known.publications),
    failures(known.now),
    behind(known.status),
    ...logs(known.status),
    ...kept(known.status, known.publications),
    ...certificates(known.sites),
    ...allowances(known.allowances),
    check(known.check),
  ];
  const needs = all.filter((need) => need !== undefined);
  return needs.sort((one, other) => Number(other.severity === "trouble") - Number(one.severity === "trouble"));
}

/** Alerts that are raised: somebody has written that they want to be told. */
function raised(alerts: AlertState[] = []): Need[] {
  return alerts
    .filter((alert) => alert.raised_since)
    .map((alert) => ({
      key: `alert ${alert.name}`,
      severity: "trouble",
      text: words.alerts.need(alert.name, alert.figure, alert.client ?? undefined),
      more: alert.condition,
      to: { page: "watch" },
    }));
}

/** Published changes that fail more than their rehearsal promised. */
function failing(publications: Publication[] = []): Need[] {
  return publications
    .filter((publication) => publication.state === "failing" && publication.in_force)
    .map((publication) => ({
      key: `publication ${publication.revision}`,
      severity: "trouble",
      text: words.published.failing(publication.revision, publication.said),
      to: { page: "sites", view: "published" },
    }));
}

function failures(now: Now): Need | undefined {
  const all = figure(now.totals.rows[0], "requests");
  const failed = figure(
    now.classes.rows.find((row) => row.class === "5xx"),
    "requests",
  );
  if (failed < FAILING_LEAST || failed < all * FAILING_SHARE) return undefined;
  return {
    key: "failures",
    severity: "trouble",
    text: words.now.failing(count(failed), count(all), percent(failed, all)),
    to: { page: "trouble", period: { kind: "last", days: 1 }, only: ["status=5xx"] },
  };
}

/** Logs that are not in the records yet. */
function behind(status: Status): Need | undefined {
  const late = status.sites.filter((site) => (site.log?.lag ?? 0) > 0);
  const lag = late.reduce((sum, site) => sum + (site.log?.lag ?? 0), 0);
  if (lag < LAG) return undefined;
  return { key: "lag", severity: "attention", text: words.now.lag(late.map((site) => site.name).join(", "), bytes(lag)), to: { page: "watch" } };
}

/** Logs that cannot be written, have lost lines, or have lines that nobody can read. */
function logs(status: Status): Need[] {
  const said = words.troubles;
  const all = [
    ...status.sites.map((site) => ({ name: site.name, log: site.log })),
    { name: words.noSite, log: status.no_site },
    { name: words.errors, log: status.errors },
  ];
  const to = { page: "watch" };
  return all.flatMap(({ name, log }): Need[] => {
    if (!log) return [];
    const needs: Need[] = [];
    if (log.trouble) {
      needs.push({ key: `trouble ${name}`, severity: "trouble", text: said.unwritten(name, log.trouble), more: `${said.remedy} ${log.file}`, to });
    }
    if (log.lost > 0) needs.push({ key: `lost ${name}`, severity: "trouble", text: said.lost(name, count(log.lost)), to });
    if (log.unread > 0) needs.push({ key: `unread ${name}`, severity: "attention", text: words.now.unread(name, count(log.unread)), to });
    return needs;
  });
}

/** What the service says is wrong with what it keeps, and with settings of folders. */
const kept = (status: Status, publications: Publication[] = []): Need[] =>
  status.troubles
    // Changes that fail are told with where they lead.
    .filter((text) => !publications.some((publication) => publication.state === "failing" && text.includes(publication.said)))
    .map((text) => ({ key: text, severity: "trouble", text }));

function certificates(sites: Sites | undefined): Need[] {
  return (sites?.sites ?? []).flatMap((site) =>
    site.hosts.flatMap((host): Need[] => {
      const certificate = host.certificate;
      if (!certificate || certificate.is_made || certificate.days >= CERTIFICATE_DAYS) return [];
      const severity = certificate.days < 3 ? "trouble" : "attention";
      return [
        { key: `certificate ${host.name}`, severity, text: words.now.certificate(host.name, certificate.days), to: { page: "sites", sites: [site.name] } },
      ];
    }),
  );
}

function allowances(allowances: Allowances | undefined): Need[] {
  return (allowances?.of ?? []).flatMap(({ site, allowance, sent, forecast }): Need[] => {
    if (allowance == null) return [];
    const who = site ?? words.now.allSites;
    const to = { page: "transfer", sites: site ? [site] : [], period: { kind: "month" as const, first: `${allowances?.month}-01` } };
    if (sent > allowance) {
      return [{ key: `allowance ${who}`, severity: "trouble", text: words.now.allowanceOver(who, bytes(sent), bytes(allowance)), to }];
    }
    if (!forecast?.runs_out) return [];
    const text = words.now.allowance(who, bytes(forecast.expected), bytes(allowance), dayName(forecast.runs_out));
    return [{ key: `allowance ${who}`, severity: "attention", text, to }];
  });
}

function check(found: ConfigDiagnostic[] | undefined): Need | undefined {
  const errors = (found ?? []).filter((finding) => finding.severity === "error").length;
  return errors > 0 ? { key: "check", severity: "trouble", text: words.now.check(errors), to: { page: "sites" } } : undefined;
}
