/** The week fan: seven half rings (days), twenty-four wedges (hours), shaded by how much there was; with the scale of its shades. */
import { arc } from "d3-shape";
import { useState } from "react";
import { words } from "../words";
import { ChartTable } from "./chart-table";

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const INNER = 46;
const RING = 21;
const OUTER = INNER + 7 * RING;
/** Shades of the scale. */
const SHADES = [0.1, 0.25, 0.5, 0.75, 1];

interface Props {
  title: string;
  /** Values by day (0 is Monday) and hour; undefined where nothing was looked at. */
  values: (number | undefined)[][];
  show: (value: number) => string;
  /** The same without its unit, and the unit, for the scale of shades. */
  short: (value: number) => string;
  unit: string;
  /** Narrows to an hour of the week, as in `Mon 8`. */
  choose?: (hours: string) => void;
}

const wedge = arc<{ day: number; hour: number }>()
  .innerRadius(({ day }) => INNER + day * RING + 1)
  .outerRadius(({ day }) => INNER + (day + 1) * RING)
  .startAngle(({ hour }) => -Math.PI / 2 + (hour / 24) * Math.PI + 0.004)
  .endAngle(({ hour }) => -Math.PI / 2 + ((hour + 1) / 24) * Math.PI - 0.004);

const shade = (part: number) => `color-mix(in oklab, var(--sea) ${Math.round((0.04 + 0.96 * part ** 0.75) * 100)}%, var(--sea-soft))`;
const clock = (hour: number) => `${String(hour).padStart(2, "0")}:00`;

export function WeekFan({ title, values, show, short, unit, choose }: Props) {
  const [pointed, setPointed] = useState<{ day: number; hour: number } | null>(null);
  const most = Math.max(0, ...values.flat().map((value) => value ?? 0));
  const places = DAYS.flatMap((_, day) => Array.from({ length: 24 }, (_, hour) => ({ day, hour })));
  const value = pointed && values[pointed.day]?.[pointed.hour];
  const pick = (at: { day: number; hour: number } | null) => at && values[at.day]?.[at.hour] !== undefined && choose?.(`${DAYS[at.day]} ${at.hour}`);
  const walk = (event: React.KeyboardEvent) => {
    if (event.key === "Enter") pick(pointed);
    const moves: Record<string, [number, number]> = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [1, 0], ArrowDown: [-1, 0] };
    const move = moves[event.key];
    if (!move) return;
    event.preventDefault();
    setPointed((at) => (at ? { day: (at.day + move[0] + 7) % 7, hour: (at.hour + move[1] + 24) % 24 } : { day: 0, hour: 0 }));
  };
  return (
    <figure className="m-0" data-fan={JSON.stringify(values)}>
      <figcaption>
        <span className="block text-lg font-semibold">{title}</span>
        {/* Its line is there whether anything is pointed at or not: what is pointed at must not move away. */}
        <span className="block h-6 truncate text-sm text-quiet" aria-live="polite">
          {pointed && (
            <>
              {DAYS[pointed.day]} {clock(pointed.hour)}:{" "}
              <span className="font-semibold text-ink">{value === undefined || value === null ? words.charts.noneOfThese : show(value)}</span>
            </>
          )}
        </span>
      </figcaption>
      <svg
        viewBox={`${-OUTER - 8} ${-OUTER - 20} ${2 * OUTER + 16} ${OUTER + 54}`}
        className="block w-full"
        role="application"
        aria-label={`${title}. ${words.traffic.fanAbout} ${choose ? words.charts.walkAndChoose : words.charts.walk}`}
        tabIndex={0}
        onKeyDown={walk}
        onBlur={() => setPointed(null)}
        onMouseLeave={() => setPointed(null)}
      >
        {places.map(({ day, hour }) => {
          const amount = values[day]?.[hour];
          const here = pointed?.day === day && pointed.hour === hour;
          return (
            <path
              key={`${day}-${hour}`}
              d={wedge({ day, hour }) ?? ""}
              data-wedge={`${DAYS[day]} ${hour}`}
              className={`${here ? "stroke-ink" : "stroke-paper"} ${choose && amount !== undefined ? "cursor-pointer" : ""}`}
              fill={amount === undefined ? "none" : shade(most === 0 ? 0 : amount / most)}
              strokeWidth={here ? 1.6 : amount === undefined ? 0 : 0.4}
              onMouseEnter={() => setPointed({ day, hour })}
              onClick={() => pick({ day, hour })}
            />
          );
        })}
        {[0, 6, 12, 18, 24].map((hour) => {
          const angle = Math.PI - (hour / 24) * Math.PI;
          const [x, y] = [Math.cos(angle) * (OUTER + 6), -Math.sin(angle) * (OUTER + 9)];
          const anchor = { 0: "start", 6: "end", 18: "start", 24: "end" }[hour] ?? "middle";
          const [left, top] = hour % 24 === 0 ? [hour === 0 ? -OUTER : OUTER, 28] : [x, y + 2];
          return (
            <text key={hour} x={left} y={top} textAnchor={anchor as "start" | "middle" | "end"} className="fill-quiet text-[11px]">
              {hour}:00
            </text>
          );
        })}
        {DAYS.map((name, day) => (
          <text key={name} x={-(INNER + (day + 0.5) * RING)} y={12} textAnchor="middle" className="fill-quiet text-[9px]">
            {name}
          </text>
        ))}
        <text x={0} y={2} textAnchor="middle" className="fill-quiet text-[10px]">
          {words.charts.inside}
        </text>
        <text x={0} y={15} textAnchor="middle" className="fill-quiet text-[10px]">
          {words.charts.outside}
        </text>
      </svg>
      <p className="flex flex-wrap items-center gap-x-1.5 text-sm text-quiet">
        0
        <span className="flex" aria-hidden="true">
          {SHADES.map((part) => (
            <span key={part} className="h-2.5 w-6" style={{ background: shade(part) }} />
          ))}
        </span>
        {short(most)} <span>{unit}</span>
      </p>
      <ChartTable
        title={title}
        columns={[words.charts.hour, ...DAYS]}
        rows={Array.from({ length: 24 }, (_, hour) => ({
          key: String(hour),
          cells: [
            clock(hour),
            ...DAYS.map((_, day) => {
              const amount = values[day]?.[hour];
              return amount === undefined ? "" : short(amount);
            }),
          ],
        }))}
      />
    </figure>
  );
}
