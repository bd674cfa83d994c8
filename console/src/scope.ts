/** The scope: sites × period × filters. It is in the address, so that a view can be sent and the back button works. */
import { useMemo, useSyncExternalStore } from "react";
import { dateOf, shifted } from "./figures";

export interface Scope {
  page: string;
  sites: string[];
  /** How many whole days. */
  days: number;
  /** The last of them; empty means today. */
  ending: string;
  /** Filters as the API takes them: column=value. */
  only: string[];
  without: string[];
}

const listeners = new Set<() => void>();
const subscribe = (listener: () => void) => {
  listeners.add(listener);
  window.addEventListener("popstate", listener);
  return () => {
    listeners.delete(listener);
    window.removeEventListener("popstate", listener);
  };
};

function parse(address: string): Scope {
  const url = new URL(address);
  const query = url.searchParams;
  return {
    page: url.pathname.replace(/^\//, "") || "now",
    sites: query.getAll("site"),
    days: Number(query.get("days")) || 7,
    ending: query.get("ending") ?? "",
    only: query.getAll("only"),
    without: query.getAll("without"),
  };
}

/** The address of a scope. */
export function addressOf(scope: Scope): string {
  const query = new URLSearchParams();
  scope.sites.forEach((site) => query.append("site", site));
  if (scope.days !== 7) query.set("days", String(scope.days));
  if (scope.ending) query.set("ending", scope.ending);
  scope.only.forEach((filter) => query.append("only", filter));
  scope.without.forEach((filter) => query.append("without", filter));
  const text = query.toString();
  return `/${scope.page === "now" ? "" : scope.page}${text ? `?${text}` : ""}`;
}

/** Goes to another scope. */
export function go(scope: Scope): void {
  window.history.pushState(null, "", addressOf(scope));
  listeners.forEach((listener) => listener());
}

/** The scope of the address, and a way to change parts of it. */
export function useScope(): [Scope, (change: Partial<Scope>) => void] {
  const address = useSyncExternalStore(subscribe, () => window.location.href);
  return useMemo(() => {
    const scope = parse(address);
    return [scope, (change) => go({ ...scope, ...change })];
  }, [address]);
}

/** First and last day of a scope, today being the last where none is said. */
export function daysOf(scope: Scope, zone: string): { first: string; last: string; today: string } {
  const today = dateOf(Date.now(), zone);
  const last = scope.ending || today;
  return { first: shifted(last, 1 - scope.days), last, today };
}

/** The scope as the API takes it. */
export function queryOf(scope: Scope, zone: string): URLSearchParams {
  const { first, last } = daysOf(scope, zone);
  const query = new URLSearchParams();
  scope.sites.forEach((site) => query.append("site", site));
  query.set("from", first);
  query.set("until", shifted(last, 1));
  scope.only.forEach((filter) => query.append("only", filter));
  scope.without.forEach((filter) => query.append("without", filter));
  return query;
}

/** Adds a filter, once. */
export const narrowed = (scope: Scope, filter: string): Partial<Scope> => ({
  only: scope.only.includes(filter) ? scope.only : [...scope.only, filter],
});
