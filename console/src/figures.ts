/** Numbers and times as people read them. */

const grouped = new Intl.NumberFormat("en");

/** A whole number with its thousands apart. */
export const count = (value: number): string => grouped.format(value);

/** Bytes in powers of 1000, three digits. */
export function bytes(value: number): string {
  const units = ["B", "kB", "MB", "GB", "TB", "PB"];
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
export function seconds(value: number): string {
  if (value < 0.0995) return `${(value * 1000).toFixed(1)} ms`;
  if (value < 0.9995) return `${Math.round(value * 1000)} ms`;
  if (value < 9.95) return `${value.toFixed(1)} s`;
  const whole = Math.round(value);
  if (whole < 60) return `${whole} s`;
  if (whole < 3600) return `${Math.floor(whole / 60)} min ${whole % 60} s`;
  return `${Math.floor(whole / 3600)} h ${Math.floor((whole % 3600) / 60)} min`;
}

/** Weekday (0 is Monday) and hour of an instant in a zone. */
export function weekHour(zone: string): (time: number) => [number, number] {
  const days = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
  const format = new Intl.DateTimeFormat("en-GB", { timeZone: zone, weekday: "short", hour: "2-digit", hourCycle: "h23" });
  return (time) => {
    const parts = format.formatToParts(time);
    const part = (type: string) => parts.find((one) => one.type === type)?.value ?? "";
    return [days.indexOf(part("weekday")), Number(part("hour"))];
  };
}

/** The clock in a zone. */
export const clock = (time: number, zone: string, seconds = false): string =>
  new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    hour: "2-digit",
    minute: "2-digit",
    ...(seconds ? { second: "2-digit" } : {}),
  }).format(time);

/** The date of an instant in a zone, as 2026-09-14. */
export const dateOf = (time: number, zone: string): string =>
  new Intl.DateTimeFormat("en-CA", { timeZone: zone, year: "numeric", month: "2-digit", day: "2-digit" }).format(time);

/** A date some days on. */
export function shifted(date: string, days: number): string {
  const moved = new Date(`${date}T12:00:00Z`);
  moved.setUTCDate(moved.getUTCDate() + days);
  return moved.toISOString().slice(0, 10);
}

/** A date as people say it: Mon 14 Sep. */
export const dayName = (date: string, year = false): string =>
  new Intl.DateTimeFormat("en-GB", {
    timeZone: "UTC",
    weekday: "short",
    day: "numeric",
    month: "short",
    ...(year ? { year: "numeric" } : {}),
  })
    .format(new Date(`${date}T12:00:00Z`))
    .replace(",", "");

/** A text cut in its middle, so that both ends of a path can be told. */
export function cut(text: string, length: number): string {
  if (text.length <= length) return text;
  const head = Math.ceil((length - 1) / 2);
  return `${text.slice(0, head)}…${text.slice(text.length - (length - 1 - head))}`;
}
