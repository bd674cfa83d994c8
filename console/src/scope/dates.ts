/** Dates as texts (2026-09-14), as the service takes them: no zone, no clock. */

/** The date of an instant in a zone. */
export const dateOf = (time: number, zone: string): string =>
  new Intl.DateTimeFormat("en-CA", { timeZone: zone, year: "numeric", month: "2-digit", day: "2-digit" }).format(time);

/** Date and minute of an instant in a zone, as 2026-09-14T08:30. */
export function minuteOf(time: number, zone: string): string {
  const clock = new Intl.DateTimeFormat("en-GB", { timeZone: zone, hour: "2-digit", minute: "2-digit", hourCycle: "h23" }).format(time);
  return `${dateOf(time, zone)}T${clock}`;
}

const at = (date: string): Date => new Date(`${date}T12:00:00Z`);
const text = (date: Date): string => date.toISOString().slice(0, 10);

/** A date some days on. */
export function shifted(date: string, days: number): string {
  const moved = at(date);
  moved.setUTCDate(moved.getUTCDate() + days);
  return text(moved);
}

/** The first day of a month some months on. */
export function monthOn(date: string, months: number): string {
  const moved = at(`${date.slice(0, 7)}-01`);
  moved.setUTCMonth(moved.getUTCMonth() + months);
  return text(moved);
}

/** The same date of another year; the last of February where there is no 29th. */
export function yearsOn(date: string, years: number): string {
  const year = String(Number(date.slice(0, 4)) + years).padStart(4, "0");
  const same = `${year}${date.slice(4)}`;
  return isDate(same) ? same : `${year}-02-28${date.slice(10)}`;
}

/** The days from one date to another that is not counted. */
export const daysBetween = (from: string, until: string): number =>
  Math.round((at(until.slice(0, 10)).getTime() - at(from.slice(0, 10)).getTime()) / 86_400_000);

/** The weekday of a date, from 0 for Monday. */
export const weekdayOf = (date: string): number => (at(date).getUTCDay() + 6) % 7;

/** The Monday of a date's week. */
export const mondayOf = (date: string): string => shifted(date, -weekdayOf(date));

/** The week of a date (ISO 8601), as 2026-W38. */
export function weekOf(date: string): string {
  const thursday = shifted(mondayOf(date), 3);
  const first = mondayOf(`${thursday.slice(0, 4)}-01-04`);
  const week = daysBetween(first, mondayOf(date)) / 7 + 1;
  return `${thursday.slice(0, 4)}-W${String(week).padStart(2, "0")}`;
}

/** The Monday of a week as in 2026-W38. */
export const mondayOfWeek = (week: string): string => shifted(mondayOf(`${week.slice(0, 4)}-01-04`), 7 * (Number(week.slice(6)) - 1));

/** Whether a text is a date, perhaps with a clock, that there is. */
export function isDate(text: string): boolean {
  if (!/^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2})?$/.test(text)) return false;
  const time = Date.parse(`${text.slice(0, 10)}T12:00:00Z`);
  return !Number.isNaN(time) && new Date(time).toISOString().startsWith(text.slice(0, 10));
}

/** How far the clock of a zone is ahead of UTC at an instant, in milliseconds. */
const ahead = (time: number, zone: string): number => Date.parse(`${minuteOf(time, zone)}:00Z`) - Math.floor(time / 60_000) * 60_000;

/** The instant of a date, perhaps with a clock, in a zone. */
export function instantOf(text: string, zone: string): number {
  const utc = Date.parse(`${text.length === 10 ? `${text}T00:00` : text}:00Z`);
  const guess = utc - ahead(utc, zone);
  return utc - ahead(guess, zone);
}
