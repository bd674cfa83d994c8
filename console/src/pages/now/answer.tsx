/** The answer to the page's question, in words: all is well, or what needs somebody, each with where it leads. */
import { useAlerts, useAllowances, useCheck, useMe, usePublications, useSites } from "../../api/queries";
import type { Now, Status } from "../../api/client";
import { count } from "../../figures";
import { addressOf, follow, useScope } from "../../scope";
import { figure } from "../../tables/table";
import { words } from "../../words";
import { needsOf, type Need } from "./needs";

export function Answer({ status, now }: { status: Status; now: Now }) {
  const [scope] = useScope();
  const me = useMe();
  const isOperator = me.data?.role === "operator" && !me.data.sites;
  const sites = useSites();
  const allowances = useAllowances([]);
  const check = useCheck(isOperator);
  const alerts = useAlerts();
  const publications = usePublications(isOperator);
  // Nothing is said to be well before everything has been looked at; what cannot be looked at does not hold up the rest.
  const isLooking = me.isPending || [sites, allowances, alerts, ...(isOperator ? [check] : [])].some((query) => query.isPending);
  if (isLooking) {
    return (
      <section aria-live="polite" className="min-h-[4.75rem]">
        <h1 className="text-4xl font-semibold text-quiet">{words.now.looking}</h1>
      </section>
    );
  }
  const needs = needsOf({ status, now, sites: sites.data, allowances: allowances.data, check: check.data, alerts: alerts.data, publications: publications.data });
  if (needs.length === 0) {
    const requests = count(figure(now.totals.rows[0], "requests"));
    const answering = scope.sites.length || status.sites.length;
    return (
      <section aria-live="polite">
        <h1 className="text-4xl font-semibold text-well" data-testid="answer">
          {words.now.well}
        </h1>
        <p className="mt-1 text-quiet">{words.now.wellAbout(requests, answering)}</p>
      </section>
    );
  }
  const tone = needs.some((need) => need.severity === "trouble") ? "text-trouble" : "text-attention-text";
  return (
    <section aria-live="polite">
      <h1 className={`text-4xl font-semibold ${tone}`} data-testid="answer">
        {words.now.needs(needs.length)}
      </h1>
      <ul className="mt-2 max-w-4xl space-y-1.5" data-testid="troubles">
        {needs.map((need) => (
          <NeedLine key={need.key} need={need} />
        ))}
      </ul>
    </section>
  );
}

function NeedLine({ need }: { need: Need }) {
  const [scope] = useScope();
  const there = need.to && { ...scope, only: [], without: [], ...need.to };
  return (
    <li className={`border-l-4 pl-3 break-words ${need.severity === "trouble" ? "border-trouble" : "border-attention"}`}>
      {there ? (
        <a href={addressOf(there)} onClick={follow(there)} className="hover:text-sea hover:underline">
          {need.text} <span aria-hidden="true">→</span>
        </a>
      ) : (
        need.text
      )}
      {need.more && <p className="text-sm text-quiet">{need.more}</p>}
    </li>
  );
}
