/** Numbers and times as people read them: those of `core/common/src/figures.rs`, to the last letter (`crates/e2e/tests/parts.rs`). */
import { preferences } from "./preferences";
import { dateOf } from "./scope/dates";

const grouped = new Intl.NumberFormat("en");

/** The language of dates: that of a report which says one. */
const language = document.getElementById("report")?.dataset.language ?? "en-GB";

/** A whole number with its thousands apart. */
export const count = (value: number): string => grouped.format(value);

/** Bytes in powers of 1000, three digits. */
export function bytes(value: number): string {
  const units = ["B", "kB", "MB", "GB", "TB", "PB", "EB"];
  let unit = 0;
  while (value >= 999.5 && unit < units.length - 1) {
    value /= 1000;
    unit += 1;
  }
  const decimals = unit === 0 ? 0 : value < 9.995 ? 2 : value < 99.95 ? 1 : 0;
  return `${value.toFixed(decimals)} ${units[unit]}`;
}

/** A rate with as many digits as help. */
export const rate = (value: number): string => (value < 10 ? value.toFixed(1) : count(Math.round(value)));

/** A part of a whole. */
export const percent = (part: number, whole: number): string => (whole === 0 ? "–" : `${((part * 100) / whole).toFixed(1)} %`);

/** A length of time as people say it. */
export function duration(seconds: number): string {
  if (seconds > 0 && seconds < 0.9995) return milliseconds(seconds * 1000);
  const whole = Math.round(seconds);
  const [hours, minutes, rest] = [Math.floor(whole / 3600), Math.floor((whole % 3600) / 60), whole % 60];
  if (hours > 0) return minutes === 0 ? `${hours} h` : `${hours} h ${minutes} min`;
  if (minutes > 0) return rest === 0 ? `${minutes} min` : `${minutes} min ${rest} s`;
  return `${rest} s`;
}

/** A short length of time: three digits. */
export function milliseconds(value: number): string {
  if (value < 0.9995) return `${(value * 1000).toFixed(0)} µs`;
  if (value < 9.995) return `${value.toFixed(2)} ms`;
  if (value < 99.95) return `${value.toFixed(1)} ms`;
  if (value < 999.5) return `${value.toFixed(0)} ms`;
  if (value < 99_950) return `${(value / 1000).toFixed(1)} s`;
  return duration(value / 1000);
}

/** A length of time that may be long, in one unit: three digits. */
export function longTime(value: number): string {
  const units = [
    [86_400e3, "d"],
    [3_600e3, "h"],
    [60e3, "min"],
  ] as const;
  const fits = units.find(([length]) => value >= 2 * length);
  if (!fits) return milliseconds(value);
  const [length, unit] = fits;
  const many = value / length;
  if (many < 9.995) return `${many.toFixed(2)} ${unit}`;
  if (many < 99.95) return `${many.toFixed(1)} ${unit}`;
  return `${count(Math.round(many))} ${unit}`;
}

/** The clock in a zone. */
export const clock = (time: number, zone: string, seconds = false): string =>
  new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    hour: "2-digit",
    minute: "2-digit",
    ...(seconds ? { second: "2-digit" } : {}),
    hourCycle: preferences().clock === "12" ? "h12" : "h23",
  }).format(time);

/** A date as people say it: Mon 14 Sep; or by its numbers. */
export function dayName(date: string, year = false): string {
  if (preferences().dates === "numbers") return date;
  return new Intl.DateTimeFormat(language, {
    timeZone: "UTC",
    weekday: "short",
    day: "numeric",
    month: "short",
    ...(year ? { year: "numeric" } : {}),
  })
    .format(new Date(`${date}T12:00:00Z`))
    .replace(",", "");
}

/** The same without its weekday. */
export const shortDay = (date: string): string => (preferences().dates === "numbers" ? date.slice(5) : dayName(date).replace(/^\S+ /, ""));

/** An instant with its day, in a zone. */
export const moment = (time: number, zone: string, seconds = false): string => `${dayName(dateOf(time, zone))} ${clock(time, zone, seconds)}`;

/** How long ago something was, as people say it. */
export function ago(milliseconds: number): string {
  const minutes = Math.round(milliseconds / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 60) return `${minutes} min ago`;
  if (minutes < 48 * 60) return `${Math.round(minutes / 60)} h ago`;
  return `${Math.round(minutes / 1440)} days ago`;
}
