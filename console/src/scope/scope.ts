/** The scope: sites × period × filters, and the page that shows it. All of it is in the address, so a view can be sent. */
import { parsePeriod, periodText, spanOf, USUAL, type Period } from "./period";

export interface Scope {
  /** The page, by its path: `now`, `traffic`, … */
  page: string;
  sites: string[];
  servers: string[];
  period: Period;
  /** Another period beside it: `previous`, or as the service takes it (`2026-W38`); empty for none. */
  against: string;
  /** Hours of the week, as in `Mon 8`. */
  hours: string[];
  /** Only people, only bots and crawlers, or both. */
  who: "" | "people" | "crawlers";
  /** Filters as the API takes them: column=value. */
  only: string[];
  without: string[];
  /** What is counted and drawn. */
  measure: string;
  /** Which of its views a page shows. */
  view: string;
  /** The statement that is asked, and the form of chart that its answer is shown as. */
  statement: string;
  chart: string;
  /** The client whose trail is open. */
  trail: string;
  /** The stretch whose prelude is open. */
  prelude: string;
  /** The findings that are open, by what they are known by, with commas between. */
  finding: string;
}

/** Lists of texts, and single ones, that stand in the address under their own names. */
const LISTS = { sites: "site", servers: "server", hours: "hours", only: "only", without: "without" } as const;
const TEXTS = { against: "against", measure: "measure", view: "view", statement: "statement", chart: "chart", trail: "trail", prelude: "prelude", finding: "finding" } as const;

/** The scope of an address. */
export function scopeOf(address: string): Scope {
  const url = new URL(address);
  const query = url.searchParams;
  const who = query.get("who");
  const lists = Object.fromEntries(Object.entries(LISTS).map(([key, name]) => [key, query.getAll(name)]));
  const texts = Object.fromEntries(Object.entries(TEXTS).map(([key, name]) => [key, query.get(name) ?? ""]));
  return {
    page: url.pathname.replace(/^\/+|\/+$/g, "") || "now",
    period: parsePeriod(query.get("period") ?? "") ?? USUAL,
    who: who === "people" || who === "crawlers" ? who : "",
    ...(lists as Record<keyof typeof LISTS, string[]>),
    ...(texts as Record<keyof typeof TEXTS, string>),
  };
}

/** The address of a scope, without its host. */
export function addressOf(scope: Scope): string {
  const query = new URLSearchParams();
  for (const [key, name] of Object.entries(LISTS)) scope[key as keyof typeof LISTS].forEach((value) => query.append(name, value));
  if (periodText(scope.period) !== periodText(USUAL)) query.set("period", periodText(scope.period));
  if (scope.who) query.set("who", scope.who);
  for (const [key, name] of Object.entries(TEXTS)) if (scope[key as keyof typeof TEXTS]) query.set(name, scope[key as keyof typeof TEXTS]);
  const text = query.toString();
  return `/${scope.page === "now" ? "" : scope.page}${text ? `?${text}` : ""}`;
}

/** Which requests are meant, as parameters of a call. */
export function parametersOf(scope: Scope, today: string): URLSearchParams {
  const query = new URLSearchParams();
  for (const [key, name] of Object.entries(LISTS)) scope[key as keyof typeof LISTS].forEach((value) => query.append(name, value));
  const { from, until } = spanOf(scope.period, today);
  query.set("from", from);
  query.set("until", until);
  if (scope.who) query.set(scope.who, "true");
  return query;
}

/** Whether anything is left out but by sites and period. */
export const isNarrowed = (scope: Scope): boolean =>
  scope.only.length + scope.without.length + scope.hours.length + scope.servers.length > 0 || scope.who !== "";

/** The same with a filter more, once. */
export function narrowed(scope: Scope, filter: string, without = false): Partial<Scope> {
  const key = without ? "without" : "only";
  return scope[key].includes(filter) ? {} : { [key]: [...scope[key], filter] };
}
