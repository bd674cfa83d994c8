/** The scope of the browser's address, and ways to go to another. */
import { useMemo, useSyncExternalStore } from "react";
import { addressOf, scopeOf, type Scope } from "./scope";

const listeners = new Set<() => void>();
const subscribe = (listener: () => void) => {
  listeners.add(listener);
  window.addEventListener("popstate", listener);
  return () => {
    listeners.delete(listener);
    window.removeEventListener("popstate", listener);
  };
};

/** Goes to another scope; the back button comes back. */
export function go(scope: Scope): void {
  const address = addressOf(scope);
  const isHere = address === window.location.pathname + window.location.search;
  if (isHere) return;
  const page = scopeOf(window.location.href).page;
  window.history.pushState(null, "", address);
  if (scope.page !== page) window.scrollTo(0, 0);
  listeners.forEach((listener) => listener());
}

/** The scope of the address, and a way to change parts of it. */
export function useScope(): [Scope, (change: Partial<Scope>) => void] {
  const address = useSyncExternalStore(subscribe, () => window.location.href);
  return useMemo(() => {
    const scope = scopeOf(address);
    return [scope, (change) => go({ ...scope, ...change })];
  }, [address]);
}

/** Follows a link within the console, unless it is to open elsewhere. */
export function follow(scope: Scope) {
  return (event: React.MouseEvent) => {
    if (event.metaKey || event.ctrlKey || event.shiftKey || event.button !== 0) return;
    event.preventDefault();
    go(scope);
  };
}
