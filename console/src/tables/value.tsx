/** Single cells of a list: what a row is about, how much of all it is, and what stands under it. */
import { createContext, useContext } from "react";
import { count } from "../figures";
import { words } from "../words";
import { cutName } from "./cutting";
import { show } from "./show";
import { filterOf, MONO, type ListProps, type Row, type Table, type TableColumn } from "./table";

/** How many letters a value has room for, in the list that it is in. */
export const NameLength = createContext(48);

interface ValueProps extends Omit<ListProps, "table"> {
  column: TableColumn;
  row: Row;
  /** The beginning that many values of the list share. */
  shared: string;
}

/** What a row is about: cut where others are the same, whole when pointed at; it narrows the scope, or is left out with a modifier. */
export function Value({ column, row, shared, zone, narrow, trail }: ValueProps) {
  const room = useContext(NameLength);
  const cell = row[column.name] ?? null;
  const text = show(column, cell, zone);
  // A sentence is read whole; a name is told by its end.
  const isSentence = !column.filter && text.includes(" ");
  const look = `block max-w-full text-left ${isSentence ? "line-clamp-3" : "truncate"} ${MONO.has(column.filter ?? "") ? "font-mono text-sm" : ""}`;
  const filter = filterOf(column, cell);
  if (!narrow || !filter) {
    return (
      <span title={text} className={look} data-key={String(cell ?? "")}>
        {isSentence ? text : cutName(text, room, shared)}
      </span>
    );
  }
  const value = (
    <button
      type="button"
      title={text}
      data-key={String(cell ?? "")}
      aria-description={words.list.narrow}
      className={`${look} hover:text-sea hover:underline`}
      onClick={(event) => narrow(filter, event.altKey)}
    >
      {cutName(text, room, shared)}
    </button>
  );
  if (!trail || column.filter !== "client" || typeof cell !== "string") return value;
  return (
    <span className="flex items-baseline gap-2">
      <span className="min-w-0">{value}</span>
      <button
        type="button"
        className="shrink-0 text-sm text-quiet hover:text-sea hover:underline"
        onClick={() => trail(cell)}
        aria-label={`${words.trail.open}: ${cell}`}
      >
        {words.trail.open}
      </button>
    </span>
  );
}

export function Bar({ part }: { part: number }) {
  return <span className="mt-0.5 block h-[3px] rounded-full bg-sea opacity-60" style={{ width: `${Math.max(part * 100, 0.4)}%` }} />;
}

/** What stands under a row. */
export function Details({ table, place }: { table: Table; place: number }) {
  const details = table.details?.[place] ?? [];
  if (details.length === 0) return null;
  return (
    <ul className="mt-0.5 text-sm text-quiet">
      {details.slice(0, 3).map((detail) => {
        const text = [detail.label, detail.text].filter(Boolean).join(" ");
        return (
          <li key={text} className="flex gap-3" title={text}>
            <span className="w-12 shrink-0 text-right">{count(detail.count)}</span>
            <span className="truncate">{cutName(text, 62, "")}</span>
          </li>
        );
      })}
    </ul>
  );
}
