/** Loading, failing, stale and of another scope, each with what to do. */
import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { words } from "../words";

/** The shape of what is to come: nothing moves when it is there. */
export function Loading() {
  return (
    <div role="status" className="pt-6" data-testid="loading">
      <p className="text-quiet">{words.states.loading}</p>
      <div aria-hidden="true" className="mt-4 h-14 w-56 rounded-md bg-line/60" />
      <div aria-hidden="true" className="mt-5 h-60 rounded-md bg-line/40" />
    </div>
  );
}

export function Failing({ error, again }: { error: Error; again: () => void }) {
  return (
    <div role="alert" className="m-6 max-w-xl border-l-4 border-trouble pl-4">
      <p className="font-semibold">{words.states.failed}</p>
      <p className="break-words text-quiet">{error.message}</p>
      <button type="button" onClick={again} className="mt-2 rounded-md border border-line bg-sheet px-3 py-1">
        {words.states.again}
      </button>
    </div>
  );
}

/** Said over the page, so that nothing moves away under the eyes. */
const NOTICE =
  "fixed bottom-4 left-1/2 z-20 w-max max-w-[92vw] -translate-x-1/2 rounded-md border border-line bg-sheet px-4 py-2 text-sm font-semibold shadow-lg";

export function Stale() {
  return (
    <p role="status" className={`${NOTICE} text-attention-text`} data-testid="stale">
      {words.states.stale}
    </p>
  );
}

/** What is shown is of another scope, until this one has been counted. */
export function Waiting() {
  return (
    <p role="status" className={NOTICE} data-testid="waiting">
      {words.traffic.before}
    </p>
  );
}

/** What was asked for in the state that it is in: there, on its way, of another scope, out of date, or failed. */
type Shown<T> = Pick<UseQueryResult<T, Error>, "isError" | "isPlaceholderData"> & { data: T | undefined; error: Error | null; refetch: () => unknown };

export function QueryView<T>({ query, children }: { query: Shown<T>; children: (data: T) => ReactNode }) {
  if (query.data === undefined) {
    return query.isError ? <Failing error={query.error ?? new Error()} again={() => void query.refetch()} /> : <Loading />;
  }
  const isOfAnother = query.isPlaceholderData;
  return (
    <>
      {query.isError && <Stale />}
      {isOfAnother && <Waiting />}
      <div aria-busy={isOfAnother} className={isOfAnother ? "opacity-40" : ""} data-testid="figures">
        {children(query.data)}
      </div>
    </>
  );
}
