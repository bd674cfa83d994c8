/** When alerts were raised within the last two weeks: a line of time for each, a bar for each stretch. */
import { useState } from "react";
import type { PastAlert } from "../../api/client";
import { useAlertHistory } from "../../api/queries";
import { dayName, moment } from "../../figures";
import { dateOf, instantOf, shifted } from "../../scope/dates";
import { useWidth } from "../../width";
import { words } from "../../words";

const said = words.alerts;
const DAYS = 14;
const DAY = 86_400_000;
/** The height of one line of time, and of what stands below all of them. */
const LINE = 26;
const BELOW = 22;
/** Room for names, and the shortest bar, in pixels. */
const BESIDE = 190;
const SHORTEST = 3;

export function History({ names, zone }: { names: string[]; zone: string }) {
  const history = useAlertHistory();
  return history.data ? <Lines past={history.data} names={names} zone={zone} /> : null;
}

function Lines({ past, names, zone }: { past: PastAlert[]; names: string[]; zone: string }) {
  const [box, width] = useWidth();
  const [now] = useState(() => Date.now());
  const from = now - DAYS * DAY;
  const shown = past.filter((past) => names.includes(past.alert) && end(past, now) > from);
  const beside = Math.min(BESIDE, width / 3);
  const x = (time: number) => beside + ((width - beside) * (Math.max(time, from) - from)) / (DAYS * DAY);
  const today = dateOf(now, zone);
  const days = Array.from({ length: DAYS }, (_, ago) => shifted(today, -ago)).filter((_, ago) => ago % (width < 700 ? 7 : 2) === 0);
  const height = names.length * LINE;
  return (
    <figure className="mt-2" data-testid="alert-history">
      <div ref={box} />
      <figcaption className="text-sm text-quiet">{shown.length === 0 ? said.noHistory(DAYS) : said.history(DAYS)}</figcaption>
      {width > 0 && (
        <svg width={width} height={height + BELOW} role="img" aria-label={said.history(DAYS)}>
          {days.map((day) => {
            const at = x(instantOf(`${day}T00:00`, zone));
            return (
              <g key={day}>
                <line x1={at} x2={at} y1={0} y2={height} className="stroke-line" />
                <text x={Math.min(at, width - 64)} y={height + 16} textAnchor="start" className="fill-quiet text-xs">
                  {dayName(day)}
                </text>
              </g>
            );
          })}
          {names.map((name, line) => (
            <g key={name}>
              <text x={0} y={line * LINE + 17} className="fill-ink text-sm">
                {fitting(name, beside)}
              </text>
              <line x1={beside} x2={width} y1={line * LINE + 13} y2={line * LINE + 13} className="stroke-line" />
              {shown
                .filter((past) => past.alert === name)
                .map((past) => (
                  <rect
                    key={past.number}
                    x={x(Date.parse(past.began))}
                    y={line * LINE + 5}
                    width={Math.max(SHORTEST, x(end(past, now)) - x(Date.parse(past.began)))}
                    height={16}
                    rx={2}
                    className={past.ended ? "fill-attention" : "fill-trouble"}
                  >
                    <title>{told(past, zone)}</title>
                  </rect>
                ))}
            </g>
          ))}
        </svg>
      )}
      {shown.length > 0 && (
        <details className="text-sm">
          <summary className="cursor-pointer text-quiet hover:text-ink">{said.asList(shown.length)}</summary>
          <ul className="mt-1">
            {shown.map((past) => (
              <li key={past.number}>{told(past, zone)}</li>
            ))}
          </ul>
        </details>
      )}
    </figure>
  );
}

const end = (past: PastAlert, now: number): number => (past.ended ? Date.parse(past.ended) : now);

function told(past: PastAlert, zone: string): string {
  const at = (time: string) => moment(Date.parse(time), zone);
  const client = past.client ? ` (${past.client})` : "";
  return `${past.alert}: ${at(past.began)} – ${past.ended ? at(past.ended) : said.goesOn}, ${past.figure}${client}`;
}

/** A name that fits into some pixels, about. */
const fitting = (name: string, room: number): string => {
  const letters = Math.floor(room / 7.5);
  return name.length <= letters ? name : `${name.slice(0, letters - 1)}…`;
};
