/** Loading, failing and stale, each with what to do. */
import { words } from "../words";

export function Loading() {
  return <p className="p-6 text-quiet">{words.states.loading}</p>;
}

export function Failing({ error, again }: { error: Error; again: () => void }) {
  return (
    <div role="alert" className="m-6 max-w-xl border-l-4 border-trouble pl-4">
      <p className="font-semibold">{words.states.failed}</p>
      <p className="text-quiet">{error.message}</p>
      <button type="button" onClick={again} className="mt-2 rounded-md border border-line bg-sheet px-3 py-1">
        {words.states.again}
      </button>
    </div>
  );
}

export function Stale() {
  return (
    <p role="status" className="mt-4 text-sm font-semibold text-attention-text">
      {words.states.stale}
    </p>
  );
}

/** What is shown is of another scope, until this one has been counted. */
export function Waiting() {
  return (
    <p role="status" className="mt-4 text-sm font-semibold" data-testid="waiting">
      {words.traffic.before}
    </p>
  );
}
