/** The columns and wedges of a report's pictures. */
import type { TimeColumn } from "../charts/columns";
import { dayName, shifted } from "../figures";
import { figure, textOf, type Table } from "../tables/table";

export type Measure = "requests" | "visitors" | "bytes";

/** The days from one date to another, both included. */
function length(first: string, last: string): number {
  return Math.round((Date.parse(last) - Date.parse(first)) / 86_400_000) + 1;
}

/** More days than this are drawn in groups. */
const MOST = 120;

/** The first and the last day of a table by day. */
export function span(days: Table | undefined): [string, string] | undefined {
  const [first, last] = [days?.rows[0], days?.rows.at(-1)];
  return first && last ? [textOf(first, "day"), textOf(last, "day")] : undefined;
}

const byKey = (table: Table, key: string, measure: string): Map<string, number> =>
  new Map(table.rows.map((row) => [textOf(row, key), figure(row, measure)]));

/** By day, days without a request among them; the other period, day by day from its first on, behind. */
export function byDay(table: Table, measure: Measure, against?: Table): TimeColumn[] {
  const whole = span(table);
  if (!whole) return [];
  const [first, last] = whole;
  const days = length(first, last);
  const each = Math.ceil(days / MOST);
  const known = byKey(table, "day", measure);
  const before = against ? byKey(against, "day", measure) : new Map<string, number>();
  const from = span(against)?.[0];
  return Array.from({ length: Math.ceil(days / each) }, (_, place) => {
    const inside = Array.from({ length: each }, (_, more) => place * each + more).filter((day) => day < days);
    const sum = (start: string, of: Map<string, number>) => inside.reduce((all, day) => all + (of.get(shifted(start, day)) ?? 0), 0);
    const key = shifted(first, place * each);
    const name = each === 1 ? dayName(key) : `${dayName(key)} – ${dayName(shifted(first, Math.max(...inside)))}`;
    const column: TimeColumn = { key, label: dayName(key).replace(/^\w+ /, ""), name, parts: [sum(first, known)] };
    return from ? { ...column, behind: sum(from, before) } : column;
  });
}

/** By hour of the day. */
export function byHour(table: Table, measure: "requests" | "bytes"): TimeColumn[] {
  return table.rows.map((row, place) => {
    const label = `${textOf(row, "hour").padStart(2, "0")}:00`;
    const column: TimeColumn = { key: label, label, name: label, parts: [figure(row, measure)] };
    const before = table.before?.[place];
    return before ? { ...column, behind: figure(before, measure) } : column;
  });
}

const WEEKDAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/** Requests of people by day of the week and hour: the mean of all such days between two, both included. */
export function week(table: Table, first?: string, last?: string): (number | undefined)[][] {
  const times = Array.from({ length: 7 }, () => 0);
  if (first && last) {
    for (let day = 0; day < length(first, last); day += 1) {
      const weekday = (new Date(`${shifted(first, day)}T12:00:00Z`).getUTCDay() + 6) % 7;
      times[weekday] = (times[weekday] ?? 0) + 1;
    }
  }
  return WEEKDAYS.map((name, place) =>
    table.rows.filter((row) => row.weekday === name).map((row) => (times[place] ? figure(row, "people") / (times[place] ?? 1) : undefined)),
  );
}
