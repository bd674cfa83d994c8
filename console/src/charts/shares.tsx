/** A whole in its parts: one bar, the largest parts with their shares, the rest together. */
import { count, percent } from "../figures";
import { figure, filterOf, textOf, type Table } from "../tables/table";
import { words } from "../words";
import { Swatch } from "./legend";

const COLOURS = ["var(--sea)", "var(--clay)", "var(--violet)", "var(--olive)", "var(--slate)"];
const REST = "var(--line)";

interface Props {
  table: Table;
  /** The column of figures. */
  measure: string;
  /** What everything together is, where parts are not all that there is. */
  all?: number;
  narrow?: (filter: string, without: boolean) => void;
  /** How many parts are named. */
  named?: number;
  title?: string;
}

export function Shares({ table, measure, all, narrow, named = 4, title }: Props) {
  const key = table.columns.find((column) => column.measure === "key");
  if (!key || table.rows.length === 0) return null;
  const sum = table.rows.reduce((sum, row) => sum + figure(row, measure), 0) + Number(table.rest?.figures[measure] ?? 0);
  const whole = Math.max(all ?? 0, sum);
  const parts = table.rows.slice(0, named).map((row, place) => ({
    name: textOf(row, key.name) || words.list.unknown,
    value: figure(row, measure),
    colour: COLOURS[place % COLOURS.length] ?? REST,
    filter: filterOf(key, row[key.name] ?? null),
  }));
  const rest = whole - parts.reduce((sum, part) => sum + part.value, 0);
  const shown = rest > 0 ? [...parts, { name: words.charts.others, value: rest, colour: REST, filter: undefined }] : parts;
  return (
    <section aria-label={title ?? table.title} data-shares={table.name}>
      <h3 className="text-sm text-quiet">{title ?? table.title}</h3>
      <div className="mt-1 flex h-3.5 gap-px overflow-hidden rounded-sm" aria-hidden="true">
        {shown.map((part) => (
          <span key={part.name} style={{ width: `${(100 * part.value) / Math.max(whole, 1)}%`, background: part.colour }} />
        ))}
      </div>
      <ul className="mt-1 flex flex-wrap gap-x-4 text-sm">
        {shown.map((part) => (
          <li key={part.name} className="flex min-h-6 items-center gap-1.5" title={count(part.value)}>
            <Swatch colour={part.colour} />
            {part.filter && narrow ? (
              <button type="button" className="min-h-6 hover:text-sea hover:underline" onClick={(event) => narrow(part.filter ?? "", event.altKey)}>
                {part.name}
              </button>
            ) : (
              part.name
            )}
            <span className="text-quiet">{percent(part.value, whole)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
