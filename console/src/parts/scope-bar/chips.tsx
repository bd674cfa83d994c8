/** The filters that hold, each to be taken away. */
import type { Scope } from "../../scope";
import { words } from "../../words";
import type { Change } from "./sites";

export function Chips({ scope, change }: { scope: Scope; change: Change }) {
  const lists = [
    { key: "only", before: "" },
    { key: "without", before: `${words.scope.without} ` },
    { key: "hours", before: `${words.scope.hours} ` },
  ] as const;
  const chips = lists.flatMap(({ key, before }) => scope[key].map((text) => ({ key, before, text })));
  if (chips.length === 0) return null;
  return (
    <ul className="flex flex-wrap items-center gap-2" aria-label={words.scope.filters}>
      {chips.map(({ key, before, text }) => (
        <li key={key + text} className="flex max-w-full items-center gap-1 rounded-full bg-sea-soft py-0.5 pr-1 pl-3 text-sm" data-testid="chip">
          {before}
          <span className="truncate font-mono" title={text}>
            {text}
          </span>
          <button
            type="button"
            aria-label={`${words.scope.remove} ${before}${text}`}
            className="rounded-full px-2 text-quiet hover:text-ink"
            onClick={() => change({ [key]: scope[key].filter((other) => other !== text) })}
          >
            ×
          </button>
        </li>
      ))}
      {chips.length > 1 && (
        <li>
          <button type="button" className="text-sm text-quiet hover:text-ink hover:underline" onClick={() => change({ only: [], without: [], hours: [] })}>
            {words.scope.removeAll}
          </button>
        </li>
      )}
    </ul>
  );
}
