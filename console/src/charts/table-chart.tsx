/** A table as a chart: lines, bars, a heat map or small multiples, in the terms in which the service says which charts a table makes. */
import { scaleLinear, scaleUtc } from "d3-scale";
import { line } from "d3-shape";
import type { Chart } from "../api/client";
import { bytes, clock, count, longTime, shortDay } from "../figures";
import { dateOf } from "../scope/dates";
import { figure, type Row, type Table, type TableColumn } from "../tables/table";
import { words } from "../words";
import { useWidth } from "../width";
import { BELOW, BESIDE, heights, ScaleLines } from "./axis";
import { Legend } from "./legend";

const COLOURS = ["var(--sea)", "var(--clay)", "var(--violet)", "var(--attention)", "var(--trouble)", "var(--well)"];
interface Props {
  table: Table;
  chart: Chart;
  zone: string;
}

interface Line {
  name: string;
  points: [number, number][];
}

export function TableChart(props: Props) {
  return (
    <figure className="mt-4" data-testid="chart" data-form={props.chart.form}>
      {props.chart.form === "lines" && <Lines {...props} />}
      {props.chart.form === "small-multiples" && <Panels {...props} />}
      {props.chart.form === "bars" && <Bars {...props} />}
      {props.chart.form === "heat-map" && <HeatMap {...props} />}
    </figure>
  );
}

const columnOf = (table: Table, name: string | null | undefined): TableColumn | undefined => table.columns.find((column) => column.name === name);

/** Where a row stands along the main axis. */
function position(column: TableColumn | undefined, row: Row, place: number): number {
  const cell = column ? row[column.name] : null;
  if (typeof cell === "number") return cell;
  const day = column?.kind === "date" ? Date.parse(`${String(cell)}T00:00:00Z`) : Number.NaN;
  return Number.isNaN(day) ? place : day;
}

/** One line for each figure, or one for each value of what parts them, the largest first. */
function linesOf({ table, chart, zone }: Props): Line[] {
  const along = columnOf(table, chart.along);
  const sorted = (points: [number, number][]) => points.sort((one, other) => one[0] - other[0]);
  const by = columnOf(table, chart.by);
  if (!by) {
    return chart.figures.map((name) => ({
      name,
      points: sorted(table.rows.map((row, place): [number, number] => [position(along, row, place), figure(row, name)])),
    }));
  }
  const parted = new Map<string, [number, number][]>();
  table.rows.forEach((row, place) => {
    const name = valueOf(by, row, zone);
    const points = parted.get(name) ?? [];
    points.push([position(along, row, place), figure(row, chart.figures[0] ?? "")]);
    parted.set(name, points);
  });
  const sum = (line: Line) => line.points.reduce((all, point) => all + point[1], 0);
  return [...parted].map(([name, points]) => ({ name, points: sorted(points) })).sort((one, other) => sum(other) - sum(one));
}

function Lines(props: Props) {
  const [element, width] = useWidth();
  const lines = linesOf(props).slice(0, props.chart.most);
  return (
    <div ref={element}>
      {lines.length > 1 && <Legend parts={lines.map(({ name }, place) => ({ name, colour: COLOURS[place] ?? "var(--ink)" }))} />}
      <Picture {...props} lines={lines} width={width} height={300} colours={COLOURS} />
    </div>
  );
}

/** Pictures beside each other: of one figure with one scale, of several each with its own. */
function Panels(props: Props) {
  const [element, width] = useWidth();
  const lines = linesOf(props).slice(0, props.chart.most);
  const across = width < 640 ? 1 : lines.length > 9 ? 4 : lines.length > 4 ? 3 : 2;
  const highest = props.chart.by ? Math.max(0, ...lines.flatMap(({ points }) => points.map((point) => point[1]))) : undefined;
  return (
    <div ref={element} className="grid gap-x-6 gap-y-4" style={{ gridTemplateColumns: `repeat(${across}, minmax(0, 1fr))` }}>
      {lines.map((line) => (
        <div key={line.name}>
          <p className="truncate text-sm" title={line.name}>
            {line.name}
          </p>
          <Picture
            {...props}
            chart={props.chart.by ? props.chart : { ...props.chart, figures: [line.name] }}
            lines={[line]}
            width={Math.max((width - 24 * (across - 1)) / across, 120)}
            height={140}
            colours={COLOURS}
            {...(highest === undefined ? {} : { highest })}
          />
        </div>
      ))}
    </div>
  );
}

interface PictureProps extends Props {
  lines: Line[];
  width: number;
  height: number;
  colours: string[];
  /** What is highest where several pictures have one scale. */
  highest?: number;
}

function Picture({ table, chart, zone, lines, width, height, colours, highest }: PictureProps) {
  const column = columnOf(table, chart.figures[0]);
  const along = columnOf(table, chart.along);
  const points = lines.flatMap((line) => line.points);
  const top = highest ?? Math.max(0, ...points.map((point) => point[1]));
  const { y, lines: marks } = heights(top, height);
  const [first, last] = [Math.min(...points.map((point) => point[0])), Math.max(...points.map((point) => point[0]))];
  const range = [BESIDE, Math.max(width - 12, BESIDE + 1)];
  const isTime = along?.kind === "time" || along?.kind === "date";
  const x = isTime ? scaleUtc([first, last], range) : scaleLinear([first, last], range);
  const ticks = x.ticks(Math.max(2, Math.floor((width - BESIDE) / 90)));
  const path = line<[number, number]>()
    .x((point) => x(point[0]))
    .y((point) => y(point[1]));
  const label = (at: number) => (isTime ? instant(along, at, last - first, zone) : count(at));
  return (
    <svg width={width} height={height} viewBox={`0 0 ${width} ${height}`} role="img" aria-label={`${chart.figures.join(", ")}: ${chart.along}`} className="block">
      <ScaleLines y={y} lines={marks} width={width} show={(value) => amount(column, value)} />
      {ticks.map((tick) => (
        <text key={Number(tick)} x={x(Number(tick))} y={height - BELOW + 16} textAnchor="middle" className="fill-quiet text-xs">
          {label(Number(tick))}
        </text>
      ))}
      {lines.map(({ name, points }, place) =>
        points.length === 1 ? (
          <circle key={name} cx={x(points[0]?.[0] ?? 0)} cy={y(points[0]?.[1] ?? 0)} r={3} fill={colours[place]} />
        ) : (
          <path key={name} d={path(points) ?? ""} fill="none" stroke={colours[place]} strokeWidth={1.8} strokeLinejoin="round">
            <title>{name}</title>
          </path>
        ),
      )}
    </svg>
  );
}

function Bars({ table, chart, zone }: Props) {
  const along = columnOf(table, chart.along);
  const by = columnOf(table, chart.by);
  const column = columnOf(table, chart.figures[0]);
  const rows = table.rows.slice(0, chart.most);
  const value = (row: Row) => figure(row, column?.name ?? "");
  const most = Math.max(1e-9, ...rows.map(value));
  return (
    <>
      <ol className="grid grid-cols-[minmax(6rem,24rem)_minmax(0,1fr)] items-center gap-x-4 gap-y-0.5">
        {rows.map((row, place) => {
          const name = [along, by].map((column) => (column ? valueOf(column, row, zone) : "")).join(" ");
          return (
            <li key={place} className="contents">
              <span className="truncate text-right text-sm" title={name}>
                {name}
              </span>
              <span className="flex items-center gap-2">
                <span className="h-3.5 rounded-r-sm bg-sea" style={{ width: `${Math.max((Math.max(value(row), 0) / most) * 82, 0.3)}%` }} />
                <span className="text-sm whitespace-nowrap text-quiet">{amount(column, value(row))}</span>
              </span>
            </li>
          );
        })}
      </ol>
      <LeftOut shown={rows.length} all={table.rows.length} />
    </>
  );
}

/** A square for each pair, the darker the more. */
function HeatMap({ table, chart, zone }: Props) {
  const [element, width] = useWidth();
  const along = columnOf(table, chart.along);
  const by = columnOf(table, chart.by);
  const column = columnOf(table, chart.figures[0]);
  const rows = table.rows.map((row, place) => ({ row, at: position(along, row, place) })).sort((one, other) => one.at - other.at);
  const span = (rows.at(-1)?.at ?? 0) - (rows[0]?.at ?? 0);
  const isTime = along?.kind === "time" || along?.kind === "date";
  const across = [...new Map(rows.map(({ row, at }) => [along ? String(row[along.name]) : "", isTime ? instant(along, at, span, zone) : along ? valueOf(along, row, zone) : ""]))];
  const down = [...new Set(rows.map(({ row }) => (by ? valueOf(by, row, zone) : "")))];
  const [columns, lines] = [Math.min(across.length, chart.most), Math.min(down.length, chart.most)];
  const places = new Map(across.map(([key], place) => [key, place]));
  const most = Math.max(1e-9, ...rows.map(({ row }) => figure(row, column?.name ?? "")));
  const LEFT = 150;
  const wide = Math.max((width - LEFT - 8) / Math.max(columns, 1), 2);
  const high = Math.min(26, Math.max(9, 420 / Math.max(lines, 1)));
  const every = Math.max(1, Math.ceil(70 / wide));
  const height = lines * high + 24;
  return (
    <div ref={element}>
      <svg width={width} height={height} role="img" aria-label={`${column?.title ?? ""}: ${along?.title ?? ""}, ${by?.title ?? ""}`} className="block">
        {rows.map(({ row }, place) => {
          const x = places.get(along ? String(row[along.name]) : "") ?? 0;
          const y = down.indexOf(by ? valueOf(by, row, zone) : "");
          if (x >= columns || y >= lines) return null;
          const value = figure(row, column?.name ?? "");
          return (
            <rect key={place} x={LEFT + x * wide} y={y * high} width={Math.max(wide - 1, 1)} height={high - 1} fill="var(--sea)" opacity={0.08 + 0.92 * Math.sqrt(Math.max(value, 0) / most)}>
              <title>{`${across[x]?.[1]} · ${down[y]}: ${amount(column, value)}`}</title>
            </rect>
          );
        })}
        {down.slice(0, lines).map((name, y) =>
          high < 12 && y % 2 === 1 ? null : (
            <text key={name} x={LEFT - 8} y={y * high + high / 2 + 4} textAnchor="end" className="fill-ink text-xs">
              {name.length > 22 ? `${name.slice(0, 21)}…` : name}
            </text>
          ),
        )}
        {across.slice(0, columns).map(([key, name], x) =>
          x % every === 0 ? (
            <text key={key} x={LEFT + (x + 0.5) * wide} y={height - 6} textAnchor="middle" className="fill-quiet text-xs">
              {name}
            </text>
          ) : null,
        )}
      </svg>
      <p className="text-sm text-quiet">{words.query.darkest(amount(column, most))}</p>
      <LeftOut shown={Math.max(columns, lines)} all={Math.max(across.length, down.length)} />
    </div>
  );
}

const LeftOut = ({ shown, all }: { shown: number; all: number }) => (shown < all ? <p className="mt-1 text-sm text-quiet">{words.query.first(shown, all)}</p> : null);

/** A value as it is written beside a chart. */
function valueOf(column: TableColumn, row: Row, zone: string): string {
  const cell = row[column.name] ?? null;
  if (cell === null) return words.list.unknown;
  return column.kind === "time" && typeof cell === "number" ? `${dateOf(cell, zone)} ${clock(cell, zone)}` : String(cell);
}

/** An instant, as finely as the whole length needs. */
function instant(column: TableColumn | undefined, at: number, span: number, zone: string): string {
  const days = span / 86_400_000;
  const of = column?.kind === "date" ? "UTC" : zone;
  return days > 2 || column?.kind === "date" ? shortDay(dateOf(at, of)) : clock(at, of);
}

/** A figure as short as an axis wants it. */
function amount(column: TableColumn | undefined, value: number): string {
  if (column?.unit === "bytes") return bytes(value);
  if (column?.unit === "milliseconds") return longTime(value);
  if (!Number.isInteger(value) && Math.abs(value) < 100) return value.toFixed(Math.abs(value) < 1 ? 3 : 1);
  return count(Math.round(value));
}
