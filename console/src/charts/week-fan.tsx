/** The week fan: seven half rings (days), twenty-four wedges (hours), shaded by how much there was. */
import { arc } from "d3-shape";
import { useState } from "react";
import { words } from "../words";

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const INNER = 46;
const RING = 21;
const OUTER = INNER + 7 * RING;

interface Props {
  title: string;
  /** Values by day (0 is Monday) and hour; undefined where nothing was looked at. */
  values: (number | undefined)[][];
  show: (value: number) => string;
}

const wedge = arc<{ day: number; hour: number }>()
  .innerRadius(({ day }) => INNER + day * RING + 1)
  .outerRadius(({ day }) => INNER + (day + 1) * RING)
  .startAngle(({ hour }) => -Math.PI / 2 + (hour / 24) * Math.PI + 0.004)
  .endAngle(({ hour }) => -Math.PI / 2 + ((hour + 1) / 24) * Math.PI - 0.004);

export function WeekFan({ title, values, show }: Props) {
  const [pointed, setPointed] = useState<{ day: number; hour: number } | null>(null);
  const most = Math.max(1, ...values.flat().map((value) => value ?? 0));
  const places = DAYS.flatMap((_, day) => Array.from({ length: 24 }, (_, hour) => ({ day, hour })));
  const value = pointed && values[pointed.day]?.[pointed.hour];
  const walk = (event: React.KeyboardEvent) => {
    const moves: Record<string, [number, number]> = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [1, 0], ArrowDown: [-1, 0] };
    const move = moves[event.key];
    if (!move) return;
    event.preventDefault();
    setPointed((at) => (at ? { day: (at.day + move[0] + 7) % 7, hour: (at.hour + move[1] + 24) % 24 } : { day: 0, hour: 0 }));
  };
  return (
    <figure className="m-0" data-fan={JSON.stringify(values)}>
      <figcaption className="flex flex-wrap items-baseline gap-x-3">
        <span className="text-lg font-semibold">{title}</span>
        <span className="ml-auto h-6 text-sm text-quiet" aria-live="polite">
          {pointed && (
            <>
              {DAYS[pointed.day]} {String(pointed.hour).padStart(2, "0")}:00:{" "}
              <span className="font-semibold text-ink">{value === undefined || value === null ? "–" : show(value)}</span>
            </>
          )}
        </span>
      </figcaption>
      <svg
        viewBox={`${-OUTER - 8} ${-OUTER - 20} ${2 * OUTER + 16} ${OUTER + 42}`}
        className="block w-full"
        role="application"
        aria-label={`${title}. ${words.traffic.fanAbout} Arrow keys walk through it.`}
        tabIndex={0}
        onKeyDown={walk}
        onBlur={() => setPointed(null)}
        onMouseLeave={() => setPointed(null)}
      >
        {places.map(({ day, hour }) => {
          const amount = values[day]?.[hour];
          const depth = amount === undefined ? 0 : 0.04 + 0.96 * (amount / most) ** 0.75;
          const here = pointed?.day === day && pointed.hour === hour;
          return (
            <path
              key={`${day}-${hour}`}
              d={wedge({ day, hour }) ?? ""}
              className={here ? "stroke-ink" : "stroke-paper"}
              fill={amount === undefined ? "none" : `color-mix(in oklab, var(--sea) ${Math.round(depth * 100)}%, var(--sea-soft))`}
              strokeWidth={here ? 1.6 : amount === undefined ? 0 : 0.4}
              onMouseEnter={() => setPointed({ day, hour })}
            />
          );
        })}
        {[0, 6, 12, 18, 24].map((hour) => {
          const angle = Math.PI - (hour / 24) * Math.PI;
          const [x, y] = [Math.cos(angle) * (OUTER + 6), -Math.sin(angle) * (OUTER + 9)];
          const anchor = { 0: "start", 6: "end", 18: "start", 24: "end" }[hour] ?? "middle";
          const [left, top] = hour % 24 === 0 ? [hour === 0 ? -OUTER : OUTER, 15] : [x, y + 2];
          return (
            <text key={hour} x={left} y={top} textAnchor={anchor as "start" | "middle" | "end"} className="fill-quiet text-[11px]">
              {hour}:00
            </text>
          );
        })}
        <text x={0} y={2} textAnchor="middle" className="fill-quiet text-[10px]">
          Mon inside
        </text>
        <text x={0} y={15} textAnchor="middle" className="fill-quiet text-[10px]">
          Sun outside
        </text>
      </svg>
    </figure>
  );
}
