/** The period: day, week, month or year, arrows to the one before and after, and any other in a calendar. */
import { Popover, ToggleGroup } from "radix-ui";
import { useState } from "react";
import type { Scope } from "../../scope";
import { shifted } from "../../scope/dates";
import { periodName } from "../../scope/names";
import { as, isLast, spanOf, step, todayIn, type Period } from "../../scope/period";
import { words } from "../../words";
import { styles } from "../styles";
import { Calendar } from "./calendar";
import type { Change } from "./sites";

const KINDS = ["day", "week", "month", "year"] as const;

export function PeriodChoice({ zone, scope, change }: { zone: string; scope: Scope; change: Change }) {
  const [isOpen, setOpen] = useState(false);
  const today = todayIn(zone);
  const { period } = scope;
  const choose = (period: Period) => {
    setOpen(false);
    change({ period });
  };
  const arrow = "h-9 w-8 text-lg text-quiet enabled:hover:text-ink disabled:opacity-40";
  return (
    <div className="flex flex-wrap items-center gap-x-2 gap-y-2">
      <ToggleGroup.Root
        type="single"
        value={period.kind}
        onValueChange={(kind) => kind && choose(as(kind as (typeof KINDS)[number], period, today))}
        aria-label={words.scope.period}
        className={styles.toggles}
      >
        {KINDS.map((kind) => (
          <ToggleGroup.Item key={kind} value={kind} className={styles.toggle}>
            {words.scope.kinds[kind]}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
      <div className="flex items-center whitespace-nowrap">
        <button type="button" className={arrow} aria-label={words.scope.earlier} onClick={() => change({ period: step(period, -1, today) })}>
          ‹
        </button>
        <Popover.Root open={isOpen} onOpenChange={setOpen}>
          <Popover.Trigger className={`${styles.button} flex items-center gap-2`} aria-label={`${words.scope.other}: ${periodName(period, today)}`}>
            <span data-testid="period">{periodName(period, today)}</span>
            <span aria-hidden="true" className="text-quiet">
              ▾
            </span>
          </Popover.Trigger>
          <Popover.Portal>
            <Popover.Content className={`${styles.window} max-w-[95vw]`} sideOffset={4} align="start" aria-label={words.scope.other}>
              <Other zone={zone} scope={scope} choose={choose} />
            </Popover.Content>
          </Popover.Portal>
        </Popover.Root>
        <button
          type="button"
          className={arrow}
          aria-label={words.scope.later}
          disabled={isLast(period, today)}
          onClick={() => change({ period: step(period, 1, today) })}
        >
          ›
        </button>
      </div>
    </div>
  );
}

/** Ready-made periods, a calendar, and two instants to be typed. */
function Other({ zone, scope, choose }: { zone: string; scope: Scope; choose: (period: Period) => void }) {
  const today = todayIn(zone);
  const span = spanOf(scope.period, today);
  const [from, setFrom] = useState(clocked(span.from));
  const [until, setUntil] = useState(clocked(span.until));
  const ready: [string, Period][] = [
    [words.scope.today, { kind: "day", first: today }],
    [words.scope.yesterday, { kind: "day", first: shifted(today, -1) }],
    [words.scope.lastDays(7), { kind: "last", days: 7 }],
    [words.scope.lastDays(30), { kind: "last", days: 30 }],
    [words.scope.thisMonth, as("month", { kind: "day", first: today }, today)],
    [words.scope.lastMonth, step(as("month", { kind: "day", first: today }, today), -1, today)],
    [words.scope.lastDays(365), { kind: "last", days: 365 }],
  ];
  return (
    <div className="flex flex-wrap gap-6">
      <ul className="w-36">
        {ready.map(([name, period]) => (
          <li key={name}>
            <button type="button" className="w-full py-1 text-left hover:text-sea" onClick={() => choose(period)}>
              {name}
            </button>
          </li>
        ))}
      </ul>
      <div>
        <Calendar span={span} today={today} choose={choose} />
        <form
          className="mt-3 flex flex-wrap items-end gap-2 border-t border-line pt-3"
          onSubmit={(event) => {
            event.preventDefault();
            if (from < until)
              choose({ kind: "between", from: whole(from, until) ? from.slice(0, 10) : from, until: whole(from, until) ? until.slice(0, 10) : until });
          }}
        >
          {(
            [
              [words.scope.from, from, setFrom],
              [words.scope.until, until, setUntil],
            ] as const
          ).map(([name, value, set]) => (
            <label key={name} className="text-sm text-quiet">
              {name}
              <input type="datetime-local" value={value} onChange={(event) => set(event.target.value)} required className={`${styles.field} block text-ink`} />
            </label>
          ))}
          <button type="submit" className={styles.strong} disabled={!(from < until)}>
            {words.scope.show}
          </button>
        </form>
      </div>
    </div>
  );
}

const clocked = (text: string): string => (text.length === 10 ? `${text}T00:00` : text);
const whole = (from: string, until: string): boolean => from.endsWith("T00:00") && until.endsWith("T00:00");
