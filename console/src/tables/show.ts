/** Single values of tables, as people read them. */
import { bytes, count, longTime, moment } from "../figures";
import { words } from "../words";
import { isKey, type Cell, type Change, type TableColumn } from "./table";

const MILLISECONDS: Record<string, number> = { seconds: 1e3, milliseconds: 1, microseconds: 1e-3, nanoseconds: 1e-6 };

/** A value of a column; instants in a zone. */
export function show(column: TableColumn, cell: Cell | undefined, zone?: string): string {
  if (cell === null || cell === undefined) return isKey(column) ? words.list.unknown : "–";
  if (typeof cell === "string") return cell;
  switch (column.kind) {
    case "size":
      return bytes(cell);
    case "duration":
      return longTime(cell * (MILLISECONDS[column.unit ?? "seconds"] ?? 1e3));
    case "time":
      return moment(cell, zone ?? "UTC");
    default:
      return isKey(column) ? String(cell) : column.name === "difference" ? signed(cell) : count(cell);
  }
}

/** More or less than before. */
const signed = (value: number): string => `${value < 0 ? "−" : "+"}${count(Math.abs(value))}`;

/** The value to the last figure, for whoever points at a rounded one. */
export const exact = (column: TableColumn, cell: Cell | undefined): string | undefined =>
  typeof cell === "number" && column.kind === "size" ? `${count(cell)} bytes` : undefined;

/** A change in words: a part of what was before, or how many times as much. */
export function showChange(change: Change): string {
  if (change.ratio === null) return change.difference === 0 ? "–" : words.report.isNew;
  const ratio = change.ratio;
  if (Math.abs(ratio) < 0.0005) return "±0 %";
  if (ratio >= 9.995) return `×${Math.round(ratio + 1)}`;
  const text = `${Math.abs(ratio * 100).toFixed(Math.abs(ratio) < 0.0995 ? 1 : 0)} %`;
  return ratio < 0 ? `−${text}` : `+${text}`;
}
