/** Columns over time, and wedges of the week, made from tables of surveys. */
import { clock, dayName, shortDay } from "../figures";
import { daysBetween, instantOf, minuteOf, shifted, weekdayOf } from "../scope/dates";
import type { Span } from "../scope/period";
import { figure, textOf, type Table } from "../tables/table";
import type { TimeColumn } from "./columns";

/** More days than this are drawn in groups of whole weeks. */
const MOST = 120;

/** How many days each column has, where a stretch has so many. */
export const daysEach = ({ from, until }: Span): number => {
  const days = daysBetween(from, until);
  return days <= MOST ? 1 : 7 * Math.ceil(days / (7 * MOST));
};

/** The first and the last day of a table by day. */
export function span(days: Table | undefined): Span | undefined {
  const [first, last] = [days?.rows[0], days?.rows.at(-1)];
  return first && last ? { from: textOf(first, "day"), until: shifted(textOf(last, "day"), 1) } : undefined;
}

/** By day, those without a request among them; the same figure of another period, day by day from its first on, behind. */
export function byDay(table: Table, { from, until }: Span, parts: string[], against?: { days: Table; from: string }): TimeColumn[] {
  const days = Math.max(0, daysBetween(from, until));
  const each = daysEach({ from, until });
  const known = new Map(table.rows.map((row) => [textOf(row, "day"), row]));
  const before = new Map(against?.days.rows.map((row) => [textOf(row, "day"), row]) ?? []);
  const sum = (name: string, start: string, inside: number[], of: typeof known) =>
    inside.reduce((all, day) => all + figure(of.get(shifted(start, day)), name), 0);
  return Array.from({ length: Math.ceil(days / each) }, (_, place) => {
    const inside = Array.from({ length: each }, (_, more) => place * each + more).filter((day) => day < days);
    const key = shifted(from, place * each);
    const name = each === 1 ? dayName(key) : `${dayName(key)} – ${dayName(shifted(from, Math.max(...inside)))}`;
    const column: TimeColumn = { key, label: shortDay(key), name, parts: parts.map((part) => sum(part, from, inside, known)) };
    return against ? { ...column, behind: parts.reduce((all, part) => all + sum(part, against.from, inside, before), 0) } : column;
  });
}

/** The days from the first of a column to the last of another, which may be groups of days. */
export const daysOf = (first: TimeColumn, last: TimeColumn, columns: TimeColumn[], until: string): Span => {
  const next = columns[columns.indexOf(last) + 1];
  return { from: first.key, until: next?.key ?? until };
};

/** By hour of the day. */
export function byHour(table: Table, measure: string): TimeColumn[] {
  return table.rows.map((row, place) => {
    const label = `${textOf(row, "hour").padStart(2, "0")}:00`;
    const column: TimeColumn = { key: label, label, name: label, parts: [figure(row, measure)] };
    const before = table.before?.[place];
    return before ? { ...column, behind: figure(before, measure) } : column;
  });
}

const LENGTHS = { minute: 60_000, hour: 3_600_000 };

/** By minute or hour, those without a request among them, up to now. Keys are instants as texts (2026-09-14T08:30). */
export function byTime(table: Table, { from, until }: Span, step: "minute" | "hour", zone: string, parts: string[]): TimeColumn[] {
  const known = new Map(table.rows.map((row) => [figure(row, "time"), row]));
  const length = LENGTHS[step];
  const end = Math.min(instantOf(until, zone), Date.now());
  const columns: TimeColumn[] = [];
  for (let time = instantOf(from, zone); time < end; time += length) {
    const key = minuteOf(time, zone);
    const label = key.endsWith("T00:00") ? shortDay(key.slice(0, 10)) : clock(time, zone);
    columns.push({ key, label, name: `${dayName(key.slice(0, 10))} ${clock(time, zone)}`, parts: parts.map((part) => figure(known.get(time), part)) });
  }
  return columns;
}

/** The stretch from the first column to the last, where columns are hours or minutes. */
export function stretchOf(first: TimeColumn, last: TimeColumn, step: "minute" | "hour", zone: string): Span {
  return { from: first.key, until: minuteOf(instantOf(last.key, zone) + LENGTHS[step], zone) };
}

const WEEKDAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/**
 * By day of the week and hour: the mean of all such hours of a stretch. `now` (2026-09-14T08:30) is where it goes on: hours after it have
 * not been yet.
 */
export function week(table: Table, span: Span | undefined, now?: string, measure = "people"): (number | undefined)[][] {
  const times = Array.from({ length: 7 }, () => Array.from({ length: 24 }, () => 0));
  for (let day = 0; span && day < daysBetween(span.from, span.until); day += 1) {
    const date = shifted(span.from, day);
    const hours = times[weekdayOf(date)] ?? [];
    const last = now === undefined || date < now.slice(0, 10) ? 23 : date === now.slice(0, 10) ? Number(now.slice(11, 13)) : -1;
    for (let hour = 0; hour <= last; hour += 1) hours[hour] = (hours[hour] ?? 0) + 1;
  }
  return WEEKDAYS.map((name, day) =>
    table.rows
      .filter((row) => row.weekday === name)
      .map((row, hour) => {
        const count = times[day]?.[hour] ?? 0;
        return count > 0 ? figure(row, measure) / count : undefined;
      }),
  );
}
