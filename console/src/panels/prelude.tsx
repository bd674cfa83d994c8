/** What was different before and during a stretch, against the usual, as sentences with their figures. */
import type { Preludes } from "../api/client";
import { usePreludes } from "../api/queries";
import { count, dayName } from "../figures";
import { Asked } from "../parts/states";
import { narrowed, useScope, type Scope } from "../scope";
import { minuteOf, shifted } from "../scope/dates";
import { spanName } from "../scope/names";
import { minutesBetween, type Span } from "../scope/period";
import { words } from "../words";
import { Panel } from "./panel";

const said = words.prelude;

export default function PreludePanel({ zone }: { zone: string }) {
  const [scope, change] = useScope();
  const span = spanOfText(scope.prelude);
  // The usual is looked for outside the stretch: in the weeks around it, whatever period the page shows.
  const wide: Scope = span ? { ...scope, period: { kind: "between", from: shifted(span.from.slice(0, 10), -14), until: shifted(span.until.slice(0, 10), 2) } } : scope;
  const now = minuteOf(Date.now() + 60_000, zone);
  const until = span && span.until > now ? now : span?.until;
  const preludes = usePreludes(wide, zone, span ? `${clocked(span.from)}..${clocked(until ?? "")}` : "");
  return (
    <Panel title={said.title} close={() => change({ prelude: "" })}>
      <p className="mt-2 text-quiet">{span ? said.of(spanName(span)) : scope.prelude}</p>
      {span && (
        <button
          type="button"
          className="mt-1 text-sm text-sea hover:underline"
          onClick={() => change({ period: { kind: "between", ...span }, prelude: "" })}
        >
          {said.narrow}
        </button>
      )}
      <Asked query={preludes}>{(preludes) => <Told preludes={preludes} span={span} />}</Asked>
    </Panel>
  );
}

function Told({ preludes, span }: { preludes: Preludes; span?: Span }) {
  const [scope, change] = useScope();
  const burst = preludes.bursts[0];
  if (!burst || burst.evidence.length === 0) {
    return (
      <>
        {burst && <p className="mt-3">{said.figures(count(burst.troubled), count(burst.requests), preludes.trouble)}</p>}
        <p className="mt-3 text-quiet">{said.nothing}</p>
      </>
    );
  }
  return (
    <>
      <p className="mt-3 font-semibold">{said.figures(count(burst.troubled), count(burst.requests), preludes.trouble)}</p>
      {burst.daily && <p className="text-attention-text">{said.daily}</p>}
      {burst.also_on.length > 0 && <p className="text-sm text-quiet">{said.alsoOn(burst.also_on.slice(0, 6).map((day) => dayName(day)).join(", "))}</p>}
      <ol className="mt-3">
        {burst.evidence.map((evidence, place) => {
          const filter = FILTERS[evidence.trait];
          return (
            <li key={place} className="border-b border-line py-2">
              <p>{evidence.words}</p>
              <p className="text-sm text-quiet">
                {said.before} {count(evidence.before)} · {said.during} {count(evidence.during)} · {said.usually} {count(Math.round(evidence.usually))}
                {filter && evidence.value && (
                  <button
                    type="button"
                    className="ml-4 text-sea hover:underline"
                    onClick={() =>
                      change({ ...narrowed(scope, `${filter}=${evidence.value.replace(/[\\,*]/g, "\\$&")}`), ...(span ? { period: { kind: "between", ...span } } : {}), prelude: "" })
                    }
                  >
                    {words.list.only(filter)}
                  </button>
                )}
              </p>
            </li>
          );
        })}
      </ol>
    </>
  );
}

/** The columns by which what was different can be narrowed to. */
const FILTERS = { client: "client", network: "client", agent: "agent", path: "path", referrer_host: "referrer_host" };

/** A stretch as it stands in the address. */
function spanOfText(text: string): Span | undefined {
  const [from, until] = text.split("..");
  return from && until && minutesBetween(from, until) > 0 ? { from, until } : undefined;
}

const clocked = (text: string): string => (text.length === 10 ? `${text}T00:00` : text);
