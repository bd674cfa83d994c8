/** What was different before and during a stretch, against the usual, as sentences with their figures. */
import type { Prelude } from "../api/client";
import { usePreludes } from "../api/queries";
import { count, dayName } from "../figures";
import { QueryView } from "../parts/states";
import { narrowed, useScope } from "../scope";
import { burstOf, spanOfBurst, type Burst } from "../scope/bursts";
import { minuteOf, shifted } from "../scope/dates";
import { spanName } from "../scope/names";
import type { Span } from "../scope/period";
import { words } from "../words";
import { Panel } from "./panel";

const said = words.prelude;

export default function PreludePanel({ zone }: { zone: string }) {
  const [scope, change] = useScope();
  const burst = burstOf(scope.prelude);
  return (
    <Panel title={said.title} close={() => change({ prelude: "" })}>
      <p className="mt-2 text-quiet">{burst ? said.of(spanName(burst.span)) : said.wrong(scope.prelude)}</p>
      {burst && (
        <button
          type="button"
          className="mt-1 text-sm text-sea hover:underline"
          onClick={() => change({ period: { kind: "between", ...burst.span }, prelude: "" })}
        >
          {said.narrow}
        </button>
      )}
      {burst && (burst.kind ? <Found burst={burst} zone={zone} /> : <Chosen span={burst.span} zone={zone} />)}
    </Panel>
  );
}

/** A burst that was found in the scope: told with all that is known of it, and whether it comes again every day. */
function Found({ burst, zone }: { burst: Burst; zone: string }) {
  const [scope] = useScope();
  const preludes = usePreludes(scope, zone, burst.kind);
  return (
    <QueryView query={preludes}>
      {(preludes) => {
        const found = preludes.bursts.find((one) => spanOfBurst(one, zone).from === burst.span.from);
        return <Told trouble={preludes.trouble} burst={found} span={burst.span} />;
      }}
    </QueryView>
  );
}

/** A stretch that somebody chose: its failed and missing requests, against those of the weeks around it. */
function Chosen({ span, zone }: { span: Span; zone: string }) {
  const [scope] = useScope();
  const period = { kind: "between" as const, from: shifted(span.from.slice(0, 10), -14), until: shifted(span.until.slice(0, 10), 2) };
  const now = minuteOf(Date.now() + 60_000, zone);
  const until = span.until > now ? now : span.until;
  const preludes = usePreludes({ ...scope, ...narrowed(scope, "status>=400"), period }, zone, `${clocked(span.from)}..${clocked(until)}`);
  return <QueryView query={preludes}>{(preludes) => <Told trouble={words.trouble.errors} burst={preludes.bursts[0]} span={span} />}</QueryView>;
}

function Told({ trouble, burst, span }: { trouble: string; burst?: Prelude; span: Span }) {
  const [scope, change] = useScope();
  if (!burst || burst.evidence.length === 0) {
    return (
      <>
        {burst && <p className="mt-3">{said.figures(count(burst.troubled), count(burst.requests), trouble)}</p>}
        <p className="mt-3 text-quiet">{said.nothing}</p>
      </>
    );
  }
  return (
    <>
      <p className="mt-3 font-semibold">{said.figures(count(burst.troubled), count(burst.requests), trouble)}</p>
      {burst.daily && <p className="text-attention-text">{said.daily}</p>}
      {burst.also_on.length > 0 && (
        <p className="text-sm text-quiet">
          {said.alsoOn(
            burst.also_on
              .slice(0, 6)
              .map((day) => dayName(day))
              .join(", "),
          )}
        </p>
      )}
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
                      change({
                        ...narrowed(scope, `${filter}=${evidence.value.replace(/[\\,*]/g, "\\$&")}`),
                        period: { kind: "between", ...span },
                        prelude: "",
                      })
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

/** The columns by which what was different can be narrowed to. Agents are told by names here, which are values of no single column. */
const FILTERS: Partial<Record<string, string>> = { client: "client", network: "client", path: "path", referrer_host: "referrer_host" };

const clocked = (text: string): string => (text.length === 10 ? `${text}T00:00` : text);
