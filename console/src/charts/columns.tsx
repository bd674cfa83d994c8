/** Columns over time, each perhaps of several parts. One is chosen by a click, a stretch of them by dragging, or with Shift and arrows. */
import { scaleBand } from "d3-scale";
import { useRef, useState } from "react";
import { words } from "../words";
import { BESIDE, heights, ScaleLines } from "./axis";
import { ChartTable } from "./chart-table";
import { Legend } from "./legend";
import { useWidth } from "../width";

export interface TimeColumn {
  key: string;
  /** What stands below it, where there is room. */
  label: string;
  /** What it is called when pointed at. */
  name: string;
  /** Heights of its parts, from the bottom. */
  parts: number[];
  /** The same of another period, drawn behind. */
  behind?: number;
}

interface Props {
  title: string;
  columns: TimeColumn[];
  /** The parts, from the bottom: what they are and how they look. */
  parts: { name: string; colour: string }[];
  height: number;
  show: (value: number) => string;
  /** One, or those from the first to the last. */
  choose?: (first: TimeColumn, last: TimeColumn) => void;
  /** Said in the picture's place where there is nothing. */
  nothing?: string;
  /** Whether its figures can be opened as a table. */
  hasTable?: boolean;
  /** Whether its parts are named: not where they are already, beside their figures. */
  hasLegend?: boolean;
}

/** Room at the end, for what stands behind the last column and is wider. */
const BEYOND = 8;
/** Room that a label needs. */
const LABEL = 56;

export function Columns({ title, columns, parts, height, show, choose, nothing, hasTable = true, hasLegend = true }: Props) {
  const [element, width] = useWidth();
  const [pointed, setPointed] = useState<number | null>(null);
  const [from, setFrom] = useState<number | null>(null);
  const isDragging = useRef(false);
  const whole = (column: TimeColumn) => column.parts.reduce((sum, part) => sum + part, 0);
  const highest = Math.max(0, ...columns.map(whole), ...columns.map((column) => column.behind ?? 0));
  const { y, lines } = heights(highest, height);
  const x = scaleBand(
    columns.map((column) => column.key),
    [BESIDE, Math.max(width - BEYOND, BESIDE + 1)],
  ).paddingInner(columns.length > 80 ? 0.1 : 0.22);
  const every = Math.max(1, Math.ceil((columns.length * LABEL) / Math.max(width - BESIDE, 1)));
  const current = pointed === null ? undefined : columns[pointed];
  const first = from === null || pointed === null ? pointed : Math.min(from, pointed);
  const last = from === null || pointed === null ? pointed : Math.max(from, pointed);
  const isMeant = (place: number) => first !== null && last !== null && place >= first && place <= last;
  const isStretch = first !== null && last !== null && first < last;
  const hasBehind = columns.some((column) => column.behind !== undefined);

  const choosePointed = () => {
    const [one, other] = [columns[first ?? -1], columns[last ?? -1]];
    setFrom(null);
    if (one && other) choose?.(one, other);
  };
  const onKeyDown = (event: React.KeyboardEvent) => {
    const move = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (move !== undefined) {
      event.preventDefault();
      if (event.shiftKey && choose) setFrom((place) => place ?? pointed);
      else setFrom(null);
      setPointed((place) => Math.min(columns.length - 1, Math.max(0, (place ?? columns.length) + move)));
    } else if (event.key === "Enter") {
      choosePointed();
    } else if (event.key === "Escape") {
      setFrom(null);
    }
  };
  const leave = () => {
    isDragging.current = false;
    setPointed(null);
    setFrom(null);
  };
  const sum = (of: (column: TimeColumn) => number) => columns.slice(first ?? 0, (last ?? -1) + 1).reduce((all, column) => all + of(column), 0);
  const stretchName = isStretch ? `${columns[first]?.name} – ${columns[last]?.name}` : current?.name;

  return (
    <div ref={element} className="w-full">
      <div className="flex flex-wrap items-baseline gap-x-6">
        <span className="text-sm text-quiet">{title}</span>
        {hasLegend && (parts.length > 1 || hasBehind) && (
          <Legend parts={[...parts, ...(hasBehind ? [{ name: words.charts.before, colour: "var(--clay)", isOutline: true }] : [])]} />
        )}
        <p className="ml-auto h-5 min-w-60 grow truncate text-right text-sm text-quiet" aria-live="polite">
          {current && (
            <>
              {stretchName}: <span className="font-semibold text-ink">{show(sum(whole))}</span>
              {parts.length > 1 &&
                parts.map((part, place) => (
                  <span key={part.name}>
                    {" "}
                    · {part.name} {show(sum((column) => column.parts[place] ?? 0))}
                  </span>
                ))}
              {hasBehind && <span className="text-clay">, {words.charts.beforeThat(show(sum((column) => column.behind ?? 0)))}</span>}
            </>
          )}
        </p>
      </div>
      <svg
        width={width}
        height={height}
        viewBox={`0 0 ${width} ${height}`}
        role="application"
        aria-label={`${title}. ${choose ? words.charts.walkAndChoose : words.charts.walk}`}
        tabIndex={0}
        onKeyDown={onKeyDown}
        onPointerLeave={leave}
        onPointerUp={() => {
          if (isDragging.current) choosePointed();
          isDragging.current = false;
        }}
        onBlur={leave}
        className="block touch-pan-y select-none print:h-auto print:max-w-full"
      >
        <ScaleLines y={y} lines={lines} width={width} show={show} />
        {highest === 0 && nothing && width > 0 && (
          <text x={BESIDE + (width - BESIDE) / 2} y={height / 2} textAnchor="middle" className="fill-quiet">
            {nothing}
          </text>
        )}
        {columns.map((column, place) => {
          let top = 0;
          const left = x(column.key) ?? 0;
          return (
            <g
              key={column.key}
              onPointerEnter={() => setPointed(place)}
              onPointerDown={() => {
                if (!choose) return;
                isDragging.current = true;
                setPointed(place);
                setFrom(place);
              }}
              className={choose ? "cursor-pointer" : undefined}
              opacity={pointed === null || isMeant(place) ? 1 : 0.5}
            >
              <rect x={left} y={0} width={x.step()} height={height} fill={isStretch && isMeant(place) ? "var(--sea-soft)" : "transparent"} />
              {column.behind !== undefined && (
                <rect
                  x={left - x.step() * 0.06}
                  y={y(column.behind)}
                  width={x.bandwidth() + x.step() * 0.12}
                  height={Math.max(y(0) - y(column.behind), 0)}
                  fill="none"
                  stroke="var(--clay)"
                  strokeDasharray="3 2"
                />
              )}
              {column.parts.map((part, kind) => {
                const bottom = y(top);
                top += part;
                return <rect key={kind} x={left} y={y(top)} width={x.bandwidth()} height={Math.max(bottom - y(top), 0)} fill={parts[kind]?.colour} />;
              })}
              {place % every === 0 && left + LABEL < width + 20 && (
                <text x={left} y={height - 5} className="fill-quiet text-xs">
                  {column.label}
                </text>
              )}
            </g>
          );
        })}
      </svg>
      {hasTable && (
        <ChartTable
          title={title}
          columns={[words.charts.when, ...parts.map((part) => part.name), ...(hasBehind ? [words.charts.before] : [])]}
          rows={columns.map((column) => ({
            key: column.key,
            cells: [column.name, ...column.parts.map(show), ...(hasBehind ? [show(column.behind ?? 0)] : [])],
          }))}
        />
      )}
    </div>
  );
}
