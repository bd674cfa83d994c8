/** A month to choose from: a day, a first and a last one, a week by its number, or the month by its name. */
import { useState } from "react";
import { dayName } from "../../figures";
import { mondayOf, monthOn, shifted, weekOf } from "../../scope/dates";
import type { Period, Span } from "../../scope/period";
import { words } from "../../words";

interface Props {
  span: Span;
  today: string;
  choose: (period: Period) => void;
}

const WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

export function Calendar({ span, today, choose }: Props) {
  const last = shifted(span.until.slice(0, 10), span.until.length === 10 ? -1 : 0);
  const [month, setMonth] = useState(monthOn(last > today ? today : last, 0));
  const [first, setFirst] = useState<string>();
  const begin = mondayOf(month);
  const weeks = Array.from({ length: 6 }, (_, week) => shifted(begin, week * 7)).filter((monday) => monday < monthOn(month, 1));
  const title = new Intl.DateTimeFormat("en-GB", { timeZone: "UTC", month: "long", year: "numeric" }).format(new Date(`${month}T12:00:00Z`));
  const pick = (date: string) => {
    if (!first) return setFirst(date);
    const [from, to] = first < date ? [first, date] : [date, first];
    choose(from === to ? { kind: "day", first: from } : { kind: "between", from, until: shifted(to, 1) });
  };
  const walk = (event: React.KeyboardEvent, date: string) => {
    const days = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -7, ArrowDown: 7 }[event.key];
    if (days === undefined) return;
    event.preventDefault();
    const next = shifted(date, days);
    if (next > today) return;
    setMonth(monthOn(next, 0));
    window.requestAnimationFrame(() => document.querySelector<HTMLElement>(`[data-date="${next}"]`)?.focus());
  };
  const arrow = "h-8 w-8 text-lg text-quiet hover:text-ink";
  return (
    <div>
      <div className="flex items-center justify-between">
        <button type="button" className={arrow} aria-label={words.scope.monthBefore} onClick={() => setMonth(monthOn(month, -1))}>
          ‹
        </button>
        <button type="button" className="font-semibold hover:text-sea" onClick={() => choose({ kind: "month", first: month })}>
          {title}
        </button>
        <button type="button" className={arrow} aria-label={words.scope.monthAfter} onClick={() => setMonth(monthOn(month, 1))}>
          ›
        </button>
      </div>
      <table className="mt-1">
        <thead>
          <tr className="text-xs text-quiet">
            <th scope="col" className="pr-2 font-normal">
              {words.scope.weekShort}
            </th>
            {WEEKDAYS.map((name) => (
              <th key={name} scope="col" className="h-6 w-9 font-normal">
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {weeks.map((monday) => (
            <tr key={monday}>
              <td className="pr-2 text-xs">
                <button type="button" className="text-quiet hover:text-sea" disabled={monday > today} onClick={() => choose({ kind: "week", first: monday })}>
                  {weekOf(monday).slice(5)}
                </button>
              </td>
              {WEEKDAYS.map((name, day) => {
                const date = shifted(monday, day);
                const isIn = date >= span.from.slice(0, 10) && date <= last;
                const look = date === first ? "bg-sea text-sheet" : isIn ? "bg-sea-soft" : "hover:bg-sea-soft";
                return (
                  <td key={name} className="p-0">
                    <button
                      type="button"
                      data-date={date}
                      aria-label={dayName(date, true)}
                      aria-pressed={date === first}
                      disabled={date > today}
                      className={`h-8 w-9 rounded-sm disabled:opacity-30 ${look} ${date.slice(0, 7) === month.slice(0, 7) ? "" : "text-quiet"} ${date === today ? "font-semibold text-sea" : ""}`}
                      onClick={() => pick(date)}
                      onKeyDown={(event) => walk(event, date)}
                    >
                      {Number(date.slice(8))}
                    </button>
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 min-h-5 text-sm text-quiet" aria-live="polite">
        {first ? words.scope.lastDay(dayName(first)) : words.scope.firstDay}
      </p>
    </div>
  );
}
