/** Bursts of failures in the scope, the most surprising first, each with the first thing that was different. */
import { usePreludes } from "../../api/queries";
import { count } from "../../figures";
import { useScope } from "../../scope";
import { minuteOf } from "../../scope/dates";
import { spanName } from "../../scope/names";
import type { Span } from "../../scope/period";
import { words } from "../../words";

/** A burst's stretch, in a zone. */
export const spanOfBurst = (burst: { from: string; until: string }, zone: string): Span => ({
  from: minuteOf(Date.parse(burst.from), zone),
  until: minuteOf(Date.parse(burst.until), zone),
});

export function Bursts({ zone }: { zone: string }) {
  const [scope, change] = useScope();
  const preludes = usePreludes(scope, zone, "5xx");
  const said = words.prelude;
  return (
    <section aria-label={said.bursts} data-testid="bursts">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.bursts}</h2>
      {!preludes.data && <p className="py-2 text-quiet">{preludes.isError ? preludes.error.message : words.states.loading}</p>}
      {preludes.data?.bursts.length === 0 && <p className="py-2 text-quiet">{said.noBursts}</p>}
      <ul>
        {preludes.data?.bursts.map((burst) => {
          const span = spanOfBurst(burst, zone);
          const first = burst.evidence[0];
          return (
            <li key={burst.from} className="border-b border-line py-2">
              <button
                type="button"
                className="text-left font-semibold hover:text-sea hover:underline"
                onClick={() => change({ prelude: `${span.from}..${span.until}`, trail: "" })}
              >
                {spanName(span)}
              </button>
              <p className="text-sm text-quiet">
                {said.figures(count(burst.troubled), count(burst.requests), preludes.data.trouble)}
                {burst.daily && `. ${said.daily}`}
              </p>
              {first && <p className="text-sm">{first.words}</p>}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
