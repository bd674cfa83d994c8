/** A list that the picture above it summarises: sorted by any column, filtered as you type, longer on demand. */
import { useState, type ReactNode } from "react";
import { words } from "../words";

export interface Column<Row> {
  name: string;
  /** The value it sorts by and downloads. */
  value: (row: Row) => string | number;
  /** What is shown, where that is not the value. */
  show?: (row: Row) => ReactNode;
  /** What it is ordered by, where that is not the value. */
  order?: (row: Row) => number;
  /** Texts are on the left, figures on the right. */
  text?: boolean;
  /** A figure that narrow windows have no room for. */
  minor?: boolean;
}

interface Props<Row> {
  title: string;
  about?: string;
  rows: Row[];
  columns: Column<Row>[];
  identify: (row: Row) => string;
  /** The part of the whole that a row is, from 0 to 1. */
  share: (row: Row) => number;
  below?: (row: Row) => ReactNode;
  file: string;
}

const FIRST = 12;
const NARROW = "hidden sm:table-cell print:table-cell";

export function List<Row>({ title, about, rows, columns, identify, share, below, file }: Props<Row>) {
  const figures = columns.findIndex((column) => !column.text);
  const [sort, setSort] = useState({ column: Math.max(figures, 0), up: false });
  const [filter, setFilter] = useState("");
  const [length, setLength] = useState(FIRST);
  const chosen = columns[sort.column];
  const by = chosen?.order ?? chosen?.value ?? (() => 0);
  const matching = rows.filter((row) => identify(row).toLowerCase().includes(filter.toLowerCase()));
  const sorted = [...matching].sort((a, b) => {
    const [one, other] = [by(a), by(b)];
    const order = typeof one === "number" && typeof other === "number" ? one - other : String(one).localeCompare(String(other));
    return sort.up ? order : -order;
  });
  return (
    <section className="mt-10 min-w-0" aria-label={title}>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line pb-1">
        <h2 className="text-lg font-semibold">{title}</h2>
        <input
          type="search"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          placeholder={words.list.filter}
          aria-label={`${words.list.filter}: ${title}`}
          className="ml-auto w-36 rounded-md border border-line bg-sheet px-2 py-0.5 text-sm"
        />
        <a className="text-sm text-quiet hover:text-ink" href={asCsv(sorted, columns)} download={`${file}.csv`}>
          {words.list.download}
        </a>
      </div>
      {about && <p className="pt-1 text-sm text-quiet">{about}</p>}
      <table className="w-full table-fixed">
        <thead>
          <tr className="text-sm text-quiet">
            {columns.map((column, place) => (
              <th
                key={column.name}
                scope="col"
                aria-sort={place === sort.column ? (sort.up ? "ascending" : "descending") : "none"}
                className={`py-1 font-normal ${column.text ? "text-left" : "w-20 text-right sm:w-28"} ${column.minor ? NARROW : ""}`}
              >
                <button
                  type="button"
                  className="hover:text-ink"
                  onClick={() => setSort({ column: place, up: place === sort.column ? !sort.up : Boolean(column.text) })}
                >
                  {column.name}
                  <span aria-hidden="true">{place === sort.column ? (sort.up ? " ↑" : " ↓") : ""}</span>
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sorted.slice(0, length).map((row) => (
            <tr key={identify(row)} className="border-b border-line align-top">
              {columns.map((column) => (
                <td key={column.name} className={`py-1 ${column.text ? "pr-4" : "text-right"} ${column.minor ? NARROW : ""}`}>
                  {column.show ? column.show(row) : column.value(row)}
                  {column.text && (
                    <>
                      <span className="mt-0.5 block h-[3px] rounded-full bg-sea opacity-60" style={{ width: `${Math.max(share(row) * 100, 0.4)}%` }} />
                      {below?.(row)}
                    </>
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {sorted.length === 0 && <p className="py-3 text-quiet">{words.list.nothing}</p>}
      {sorted.length > length && (
        <button type="button" className="mt-2 text-sea hover:underline" onClick={() => setLength(length * 4)}>
          {words.list.more}
        </button>
      )}
    </section>
  );
}

/** A cell that a spreadsheet would take for a formula is kept a text. */
function cell(value: string | number): string {
  const text = typeof value === "string" && /^[=+\-@\t\r]/.test(value) ? `'${value}` : String(value);
  return /[",\n\r]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

function asCsv<Row>(rows: Row[], columns: Column<Row>[]): string {
  const lines = [columns.map((column) => cell(column.name)), ...rows.map((row) => columns.map((column) => cell(column.value(row))))];
  return `data:text/csv;charset=utf-8,${encodeURIComponent(lines.map((line) => line.join(",")).join("\n"))}`;
}
