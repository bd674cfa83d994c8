/** Tables as the service gives them, and what is asked of one: its figures, what it is ordered by, how a figure changed. */
import type { components } from "../api/schema.gen";

export type Table = components["schemas"]["Table"];
export type TableColumn = components["schemas"]["TableColumn"];
export type Cell = components["schemas"]["Cell"];
export type Row = Table["rows"][number];

/** A list, and what can be done by it. */
export interface ListProps {
  table: Table;
  zone?: string;
  /** Narrows the scope to a value, or leaves it out. Without it values are only shown. */
  narrow?: (filter: string, without: boolean) => void;
  /** Opens the trail of a client. */
  trail?: (client: string) => void;
}

/** Columns of logs whose values are read letter by letter. */
export const MONO = new Set(["path", "client", "referrer", "agent", "query", "rule", "extension"]);

/** How a figure has changed. */
export interface Change {
  before: number;
  difference: number;
  /** The difference as a part of what was before; none where that was nothing. */
  ratio: number | null;
}

/** A figure of a row; 0 where it has none. */
export const figure = (row: Row | undefined, name: string): number => {
  const cell = row?.[name];
  return typeof cell === "number" ? cell : 0;
};

/** What a row is called. */
export const textOf = (row: Row, name: string): string => String(row[name] ?? "");

export const isKey = (column: TableColumn): boolean => column.measure === "key";

/** The column that a table is about: what it is ordered by, or its first figure. */
export const mainOf = (table: Table): TableColumn | undefined =>
  table.columns.find((column) => column.name === table.order) ?? table.columns.find((column) => !isKey(column));

/** Whether another period stands beside a table. */
export const compares = (table: Table): boolean => (table.before?.length ?? 0) > 0;

export function changed(now: number, before: Cell | undefined): Change | undefined {
  if (typeof before !== "number") return undefined;
  const difference = now - before;
  return { before, difference, ratio: before === 0 ? null : difference / before };
}

/** How a figure of a row has changed since the other period. */
export const changeOf = (table: Table, row: number, name: string): Change | undefined => changed(figure(table.rows[row], name), table.before?.[row]?.[name]);

/** A filter for exactly this value of a column. */
export function filterOf(column: TableColumn, cell: Cell): string | undefined {
  if (!column.filter) return undefined;
  const value = cell === null ? "" : String(cell).replace(/[\\,*]/g, "\\$&");
  return `${column.filter}=${value}`;
}

/** A cell that a spreadsheet would take for a formula is kept a text. */
function plain(cell: Cell): string {
  const text = typeof cell === "string" && /^[=+\-@\t\r]/.test(cell) ? `'${cell}` : String(cell ?? "");
  return /[",\n\r]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

/** Rows of a table as comma-separated values. */
export function asCsv(table: Table, rows: Row[]): string {
  const names = table.columns.map((column) => column.name);
  const lines = [names.map(plain), ...rows.map((row) => names.map((name) => plain(row[name] ?? null)))];
  return `data:text/csv;charset=utf-8,${encodeURIComponent(lines.map((line) => line.join(",")).join("\n"))}`;
}

/** Everything that a row is about. */
export const nameOf = (table: Table, row: Row): string =>
  table.columns
    .filter(isKey)
    .map((column) => textOf(row, column.name))
    .join(" ");
