/** Bursts of trouble in the scope, the most surprising first, each with the first thing that was different. */
import { ToggleGroup } from "radix-ui";
import { useState } from "react";
import { usePreludes } from "../../api/queries";
import { count } from "../../figures";
import { styles } from "../../parts/styles";
import { useScope } from "../../scope";
import { spanName } from "../../scope/names";
import { spanOfBurst } from "../../scope/bursts";
import { words } from "../../words";

const said = words.prelude;

export function Bursts({ zone, hasFailed }: { zone: string; hasFailed: boolean }) {
  const [scope, change] = useScope();
  const [chosen, setChosen] = useState("");
  const kind = chosen || (hasFailed ? "5xx" : "4xx");
  const preludes = usePreludes(scope, zone, kind);
  return (
    <section aria-label={said.bursts} data-testid="bursts">
      <div className="flex flex-wrap items-end justify-between gap-2 border-b border-line pb-1">
        <h2 className="text-lg font-semibold">{said.bursts}</h2>
        <ToggleGroup.Root type="single" value={kind} onValueChange={setChosen} aria-label={said.bursts} className={`${styles.toggles} text-sm [&>button]:h-7`}>
          {Object.entries(said.kinds).map(([kind, name]) => (
            <ToggleGroup.Item key={kind} value={kind} className={styles.toggle}>
              {name}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
      </div>
      {!preludes.data && <p className="py-2 text-quiet">{preludes.isError ? preludes.error.message : words.states.loading}</p>}
      {preludes.data?.bursts.length === 0 && <p className="py-2 text-quiet">{said.noBursts(preludes.data.trouble)}</p>}
      <ul className={preludes.isPlaceholderData ? "opacity-40" : ""} aria-busy={preludes.isPlaceholderData}>
        {preludes.data?.bursts.map((burst) => {
          const span = spanOfBurst(burst, zone);
          const first = burst.evidence[0];
          return (
            <li key={burst.from} className="border-b border-line py-2">
              <button
                type="button"
                className="text-left font-semibold hover:text-sea hover:underline"
                onClick={() => change({ prelude: `${kind} ${span.from}..${span.until}`, trail: "" })}
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
