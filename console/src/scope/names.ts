/** What periods and stretches are called. */
import { dayName } from "../figures";
import { words } from "../words";
import { shifted } from "./dates";
import { periodText, spanOf, type Period, type Span } from "./period";

/** What a period is called. */
export function periodName(period: Period, today: string): string {
  const { from, until } = spanOf(period, today);
  switch (period.kind) {
    case "month":
      return new Intl.DateTimeFormat("en-GB", { timeZone: "UTC", month: "long", year: "numeric" }).format(new Date(`${from}T12:00:00Z`));
    case "year":
      return from.slice(0, 4);
    case "last":
      return period.days === 1 ? words.scope.today : words.scope.lastDays(period.days);
    case "week":
      return `${words.scope.week(Number(periodText(period).slice(6)))}, ${spanName({ from, until })}`;
    default:
      return spanName({ from, until });
  }
}

/** A stretch by its ends: whole days by their names, others with the clock. */
export function spanName({ from, until }: Span): string {
  if (from.length === 10 && until.length === 10) {
    const last = shifted(until, -1);
    return from === last ? dayName(last, true) : `${dayName(from, from.slice(0, 4) !== last.slice(0, 4))} – ${dayName(last, true)}`;
  }
  const [first, clock] = [from.slice(0, 10), (text: string) => text.slice(11) || "00:00"];
  const end = first === until.slice(0, 10) ? clock(until) : `${dayName(until.slice(0, 10))} ${clock(until)}`;
  return `${dayName(first)} ${clock(from)} – ${end}`;
}
