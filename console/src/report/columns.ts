/** The columns and wedges of a report's pictures. */
import type { Survey } from "../api/client";
import type { TimeColumn } from "../charts/columns";
import { dayName, shifted } from "../figures";

type Measure = "requests" | "visitors" | "bytes";

/** The days from one date to another, both included. */
function length(first: string, last: string): number {
  return Math.round((Date.parse(last) - Date.parse(first)) / 86_400_000) + 1;
}

/** More days than this are drawn in groups. */
const MOST = 120;

/** By day, days without a request among them; the other period, day by day from its first on, behind. */
export function byDay(report: Survey, measure: Measure): TimeColumn[] {
  const first = report.by_day[0]?.day;
  const last = report.by_day.at(-1)?.day;
  if (!first || !last) return [];
  const days = length(first, last);
  const each = Math.ceil(days / MOST);
  const known = new Map(report.by_day.map((day) => [day.day, day[measure]]));
  const other = report.against?.by_day ?? [];
  const before = new Map(other.map((day) => [day.day, day[measure]]));
  const from = other[0]?.day;
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
export function byHour(report: Survey, measure: "requests" | "bytes"): TimeColumn[] {
  return report.by_hour.map((hour, place) => {
    const label = `${String(hour.hour).padStart(2, "0")}:00`;
    const behind = report.against?.by_hour[place]?.[measure];
    const column: TimeColumn = { key: label, label, name: label, parts: [hour[measure]] };
    return behind === undefined ? column : { ...column, behind };
  });
}

/** Requests of people by day of the week and hour: the mean of all such days between two, both included. */
export function week(report: Survey, first = report.by_day[0]?.day, last = report.by_day.at(-1)?.day): (number | undefined)[][] {
  const times = Array.from({ length: 7 }, () => 0);
  if (first && last) {
    for (let day = 0; day < length(first, last); day += 1) {
      const weekday = (new Date(`${shifted(first, day)}T12:00:00Z`).getUTCDay() + 6) % 7;
      times[weekday] = (times[weekday] ?? 0) + 1;
    }
  }
  return (report.by_weekday ?? []).map((day, place) => (day.people ?? []).map((requests) => (times[place] ? requests / (times[place] ?? 1) : undefined)));
}
