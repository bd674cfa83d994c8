/** Bursts of trouble as they stand in the address: `4xx 2026-09-14T03:11..2026-09-14T03:14`, or a stretch alone. */
import { isDate, minuteOf } from "./dates";
import { minutesBetween, type Span } from "./period";

export interface Burst {
  /** What kind of trouble it is of, where it was found as a burst; empty for a stretch that somebody chose. */
  kind: string;
  span: Span;
}

/** The burst of a text; undefined where it is none. */
export function burstOf(text: string): Burst | undefined {
  const [first, second] = text.split(" ");
  const [kind, stretch] = second === undefined ? ["", first] : [first, second];
  const [from, until] = (stretch ?? "").split("..");
  if (!from || !until || !isDate(from) || !isDate(until) || minutesBetween(from, until) <= 0) return undefined;
  return { kind: kind ?? "", span: { from, until } };
}

/** A burst's stretch, in a zone. */
export const spanOfBurst = (burst: { from: string; until: string }, zone: string): Span => ({
  from: minuteOf(Date.parse(burst.from), zone),
  until: minuteOf(Date.parse(burst.until), zone),
});
