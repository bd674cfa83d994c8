/** Columns over time, each perhaps of several parts, the largest scale line said in figures. */
import { scaleBand, scaleLinear } from "d3-scale";
import { useState } from "react";
import { useWidth } from "./size";

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
  colours: string[];
  height: number;
  show: (value: number) => string;
  choose?: (column: TimeColumn) => void;
}

const BELOW = 22;
const BESIDE = 62;
/** Room at the end, for what stands behind the last column and is wider. */
const BEYOND = 8;

export function Columns({ title, columns, colours, height, show, choose }: Props) {
  const [element, width] = useWidth();
  const [pointed, setPointed] = useState<number | null>(null);
  const whole = (column: TimeColumn) => column.parts.reduce((sum, part) => sum + part, 0);
  const most = Math.max(1, ...columns.map(whole), ...columns.map((column) => column.behind ?? 0));
  const y = scaleLinear([0, most], [height - BELOW, 8]).nice(4);
  const x = scaleBand(columns.map((column) => column.key), [BESIDE, Math.max(width - BEYOND, BESIDE + 1)]).paddingInner(columns.length > 80 ? 0.1 : 0.22);
  const every = Math.max(1, Math.ceil((columns.length * 52) / Math.max(width - BESIDE, 1)));
  const current = pointed === null ? undefined : columns[pointed];

  const onKeyDown = (event: React.KeyboardEvent) => {
    const moves: Record<string, number> = { ArrowLeft: -1, ArrowRight: 1 };
    const move = moves[event.key];
    if (move !== undefined) {
      event.preventDefault();
      setPointed((place) => Math.min(columns.length - 1, Math.max(0, (place ?? columns.length) + move)));
    } else if (event.key === "Enter" && current) {
      choose?.(current);
    }
  };

  return (
    <div ref={element} className="w-full">
      <p className="h-6 text-right text-sm text-quiet" aria-live="polite">
        {current && (
          <>
            {current.name}: <span className="font-semibold text-ink">{show(whole(current))}</span>
            {current.behind !== undefined && <span className="text-clay">, before {show(current.behind)}</span>}
          </>
        )}
      </p>
      <svg
        width={width}
        height={height}
        viewBox={`0 0 ${width} ${height}`}
        role="application"
        aria-label={`${title}. Arrow keys walk through it.`}
        tabIndex={0}
        onKeyDown={onKeyDown}
        onMouseLeave={() => setPointed(null)}
        onBlur={() => setPointed(null)}
        className="block print:h-auto print:max-w-full"
      >
        {y.ticks(height < 150 ? 2 : 3).map((tick) => (
          <g key={tick}>
            <line x1={BESIDE} x2={width} y1={y(tick)} y2={y(tick)} className="stroke-line" />
            <text x={BESIDE - 8} y={y(tick) + 4} textAnchor="end" className="fill-quiet text-xs">
              {show(tick)}
            </text>
          </g>
        ))}
        {columns.map((column, place) => {
          let top = 0;
          const left = x(column.key) ?? 0;
          return (
            <g
              key={column.key}
              onMouseEnter={() => setPointed(place)}
              onClick={() => choose?.(column)}
              className={choose ? "cursor-pointer" : undefined}
              opacity={pointed === null || pointed === place ? 1 : 0.55}
            >
              <rect x={left} y={0} width={x.step()} height={height} fill="transparent" />
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
                const from = y(top);
                top += part;
                return <rect key={kind} x={left} y={y(top)} width={x.bandwidth()} height={Math.max(from - y(top), 0)} fill={colours[kind]} />;
              })}
              {place % every === 0 && left + 52 < width + 14 && (
                <text x={left} y={height - 5} className="fill-quiet text-xs">
                  {column.label}
                </text>
              )}
            </g>
          );
        })}
      </svg>
    </div>
  );
}
