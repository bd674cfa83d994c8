/** Narrowing the scope from where a value stands. */
import { useMemo, useRef } from "react";
import { narrowed } from "./scope";
import { useScope } from "./use-scope";

/** What a click on a value, or on a client's trail, does. */
export function useNarrowing() {
  const [scope, change] = useScope();
  const latest = useRef({ scope, change });
  latest.current = { scope, change };
  // The same for good, so that lists are not drawn anew for them.
  return useMemo(
    () => ({
      narrow: (filter: string, without: boolean) => latest.current.change(narrowed(latest.current.scope, filter, without)),
      trail: (client: string) => latest.current.change({ trail: client, prelude: "" }),
    }),
    [],
  );
}
