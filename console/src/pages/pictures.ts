/** What pictures of several pages have in common: columns over the period, whichever step fits it, and narrowing by them. */
import type { Survey } from "../api/client";
import type { TimeColumn } from "../charts/columns";
import { byDay, byHour, byTime, daysEach, daysOf, stretchOf } from "../charts/time-columns";
import type { Scope } from "../scope";
import { shifted } from "../scope/dates";
import { spanOf, stepOf, todayIn, type Period, type Span } from "../scope/period";

export interface OverTime {
  columns: TimeColumn[];
  step: "week" | "day" | "hour" | "minute" | "hour of the day";
  /** The stretch from a column to another. */
  stretch: (first: TimeColumn, last: TimeColumn) => Span;
}

/** Figures of a survey over its period: by minute, hour or day. Nothing is drawn of days that are still to come. */
export function overTime(survey: Survey, scope: Scope, zone: string, parts: string[]): OverTime {
  const today = todayIn(zone);
  const whole = spanOf(scope.period, today);
  const step = stepOf(whole);
  const { timeline, days, hours } = survey.tables;
  const single = parts.length === 1 ? parts[0] : undefined;
  if (survey.against && step === "hour" && hours && single && hours.columns.some((column) => column.name === single) && isOneDay(whole)) {
    const columns = byHour(hours, single);
    const at = (column: TimeColumn) => `${whole.from}T${column.label}`;
    return { columns, step: "hour of the day", stretch: (first, last) => ({ from: at(first), until: next(at(last)) }) };
  }
  if (step !== "day" && timeline) {
    return { columns: byTime(timeline, whole, step, zone, parts), step, stretch: (first, last) => stretchOf(first, last, step, zone) };
  }
  const from = whole.from.slice(0, 10);
  const end = whole.until.length === 10 ? whole.until : shifted(whole.until.slice(0, 10), 1);
  const until = end > shifted(today, 1) ? shifted(today, 1) : end;
  const otherFrom = survey.against?.from ? dateIn(survey.against.from, zone) : undefined;
  const against = survey.against && otherFrom ? { days: survey.against.days, from: otherFrom } : undefined;
  const columns = days ? byDay(days, { from, until }, parts, against) : [];
  return { columns, step: daysEach({ from, until }) === 1 ? "day" : "week", stretch: (first, last) => daysOf(first, last, columns, until) };
}

/** Whether figures that exist by day alone are there: visitors and visits. */
export const isByDay = ({ step }: OverTime): boolean => step === "day" || step === "week";

/** A stretch as a period: a whole day is called one. */
export function periodOf({ from, until }: Span): Period {
  return from.length === 10 && until === shifted(from, 1) ? { kind: "day", first: from } : { kind: "between", from, until };
}

const isOneDay = ({ from, until }: Span): boolean => from.length === 10 && until === shifted(from, 1);
const next = (hour: string): string => {
  const number = Number(hour.slice(11, 13)) + 1;
  return number === 24 ? `${shifted(hour.slice(0, 10), 1)}T00:00` : `${hour.slice(0, 11)}${String(number).padStart(2, "0")}:00`;
};
const dateIn = (stamp: string, zone: string): string => new Intl.DateTimeFormat("en-CA", { timeZone: zone }).format(new Date(stamp));
