/** Stretches of time as people choose them: a day, a week, a month, a year, some days up to now, or any stretch. */
import { dateOf, daysBetween, isDate, mondayOfWeek, monthOn, shifted, weekOf, yearsOn } from "./dates";

export type Period =
  { kind: "day" | "week" | "month" | "year"; first: string } | { kind: "last"; days: number } | { kind: "between"; from: string; until: string };

/** From an instant to another that no longer counts: dates, or dates with a clock (2026-09-14T08:30). */
export interface Span {
  from: string;
  until: string;
}

/** What is looked at where nobody says anything. */
export const USUAL: Period = { kind: "last", days: 7 };

/** A period as it stands in the address; undefined where it is none. */
export function parsePeriod(text: string): Period | undefined {
  const last = /^(\d{1,4})-days?$/.exec(text);
  if (last && Number(last[1]) > 0) return { kind: "last", days: Number(last[1]) };
  if (/^\d{4}$/.test(text)) return { kind: "year", first: `${text}-01-01` };
  if (/^\d{4}-(0[1-9]|1[0-2])$/.test(text)) return { kind: "month", first: `${text}-01` };
  if (/^\d{4}-W\d{2}$/.test(text) && weekOf(mondayOfWeek(text)) === text) return { kind: "week", first: mondayOfWeek(text) };
  const [from, until] = text.split("..");
  if (from && until && isDate(from) && isDate(until) && from < until) return { kind: "between", from, until };
  return text.length === 10 && isDate(text) ? { kind: "day", first: text } : undefined;
}

/** The text of a period in the address. */
export function periodText(period: Period): string {
  switch (period.kind) {
    case "last":
      return `${period.days}-days`;
    case "between":
      return `${period.from}..${period.until}`;
    case "day":
      return period.first;
    case "week":
      return weekOf(period.first);
    case "month":
      return period.first.slice(0, 7);
    case "year":
      return period.first.slice(0, 4);
  }
}

/** Where it begins and ends, seen from a day that is today. */
export function spanOf(period: Period, today: string): Span {
  switch (period.kind) {
    case "last":
      return { from: shifted(today, 1 - period.days), until: shifted(today, 1) };
    case "between":
      return { from: period.from, until: period.until };
    case "day":
      return { from: period.first, until: shifted(period.first, 1) };
    case "week":
      return { from: period.first, until: shifted(period.first, 7) };
    case "month":
      return { from: period.first, until: monthOn(period.first, 1) };
    case "year":
      return { from: period.first, until: yearsOn(period.first, 1) };
  }
}

/** The one after it or before it. Some days up to now become the days before those. */
export function step(period: Period, direction: 1 | -1, today: string): Period {
  const { from, until } = spanOf(period, today);
  switch (period.kind) {
    case "day":
      return { kind: "day", first: shifted(period.first, direction) };
    case "week":
      return { kind: "week", first: shifted(period.first, 7 * direction) };
    case "month":
      return { kind: "month", first: monthOn(period.first, direction) };
    case "year":
      return { kind: "year", first: yearsOn(period.first, direction) };
    default: {
      if (from.length === 10) {
        const days = daysBetween(from, until);
        const moved = { from: shifted(from, direction * days), until: shifted(until, direction * days) };
        return moved.until === shifted(today, 1) ? { kind: "last", days } : { kind: "between", ...moved };
      }
      const minutes = minutesBetween(from, until);
      return { kind: "between", from: minutesOn(from, direction * minutes), until: minutesOn(until, direction * minutes) };
    }
  }
}

/** The period that a day, week, month or year of the same length would be, where somebody chooses another kind. */
export function as(kind: "day" | "week" | "month" | "year", period: Period, today: string): Period {
  const { from, until } = spanOf(period, today);
  const last = shifted(until.slice(0, 10), until.length === 10 ? -1 : 0);
  const at = today >= from.slice(0, 10) && today <= last ? today : last;
  return parsePeriod({ day: at, week: weekOf(at), month: at.slice(0, 7), year: at.slice(0, 4) }[kind]) ?? USUAL;
}

/** The minutes from one instant to another, clocks of one zone. */
export const minutesBetween = (from: string, until: string): number => (utc(until) - utc(from)) / 60_000;

/** Whether anything can come after it. */
export const isLast = (period: Period, today: string): boolean => spanOf(period, today).until.slice(0, 10) > today;

/** The length of the steps in which it is drawn. */
export function stepOf(span: Span): "minute" | "hour" | "day" {
  const minutes = minutesBetween(span.from, span.until);
  return minutes <= 6 * 60 ? "minute" : minutes <= 4 * 24 * 60 ? "hour" : "day";
}

/** The same stretch a year before. */
export const yearBefore = (span: Span): string => `${yearsOn(span.from, -1)}..${yearsOn(span.until, -1)}`;

/** Today, in a zone. */
export const todayIn = (zone: string): string => dateOf(Date.now(), zone);

const utc = (text: string): number => Date.parse(`${text.length === 10 ? `${text}T00:00` : text}:00Z`);
const minutesOn = (text: string, minutes: number): string => new Date(utc(text) + minutes * 60_000).toISOString().slice(0, 16);
