/** A month's transfer as it grows: what was sent, what is expected with its range, and the allowance as a line. */
import { scalePoint } from "d3-scale";
import { area, line } from "d3-shape";
import { useState } from "react";
import { bytes, dayName } from "../figures";
import { figure, textOf, type Row, type Table } from "../tables/table";
import { words } from "../words";
import { BESIDE, heights, ScaleLines } from "./axis";
import { ChartTable } from "./chart-table";
import { Legend } from "./legend";
import { useWidth } from "../width";

interface Props {
  table: Table;
  allowance?: number | null;
  height: number;
}

const known = (row: Row, name: string): boolean => typeof row[name] === "number";

export function MonthChart({ table, allowance, height }: Props) {
  const [element, width] = useWidth();
  const [pointed, setPointed] = useState<number | null>(null);
  const rows = table.rows;
  const highest = Math.max(1, allowance ?? 0, ...rows.flatMap((row) => [figure(row, "sent"), figure(row, "most")]));
  const { y, lines } = heights(highest, height);
  const x = scalePoint(
    rows.map((row) => textOf(row, "day")),
    [BESIDE + 4, Math.max(width - 10, BESIDE + 5)],
  );
  const at = (row: Row) => x(textOf(row, "day")) ?? 0;
  const sent = rows.filter((row) => known(row, "sent"));
  const ahead = rows.filter((row) => known(row, "expected") && row.sent === null);
  const joined = [...sent.slice(-1), ...ahead];
  const expected = (row: Row) => y(row.sent === null ? figure(row, "expected") : figure(row, "sent"));
  const current = pointed === null ? undefined : rows[pointed];
  const title = words.transfer.course;
  const walk = (event: React.KeyboardEvent) => {
    const move = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (move === undefined) return;
    event.preventDefault();
    setPointed((place) => Math.min(rows.length - 1, Math.max(0, (place ?? sent.length) + move)));
  };
  return (
    <div ref={element} className="w-full">
      <div className="flex flex-wrap items-baseline gap-x-6">
        <Legend
          parts={[
            { name: words.transfer.sentSoFar, colour: "var(--sea)" },
            { name: words.transfer.expectedRange, colour: "var(--moved)" },
            ...(allowance ? [{ name: words.transfer.allowance, colour: "var(--ink)", isOutline: true }] : []),
          ]}
        />
        <p className="ml-auto h-5 min-w-60 grow truncate text-right text-sm text-quiet" aria-live="polite">
          {current && (
            <>
              {dayName(textOf(current, "day"))}:{" "}
              <span className="font-semibold text-ink">{bytes(figure(current, current.sent === null ? "expected" : "sent"))}</span>
              {current.sent === null && known(current, "least") && ` (${bytes(figure(current, "least"))} – ${bytes(figure(current, "most"))})`}
            </>
          )}
        </p>
      </div>
      <svg
        width={width}
        height={height}
        role="application"
        aria-label={`${title}. ${words.charts.walk}`}
        tabIndex={0}
        onKeyDown={walk}
        onBlur={() => setPointed(null)}
        onMouseLeave={() => setPointed(null)}
        className="block"
      >
        <ScaleLines y={y} lines={lines} width={width} show={bytes} />
        <path
          d={
            area<Row>()
              .x(at)
              .y0((row) => y(row.sent === null ? figure(row, "least") : figure(row, "sent")))
              .y1((row) => y(row.sent === null ? figure(row, "most") : figure(row, "sent")))(joined) ?? ""
          }
          fill="var(--moved)"
          opacity={0.4}
        />
        <path d={line<Row>().x(at).y(expected)(joined) ?? ""} fill="none" stroke="var(--moved)" strokeWidth={2} strokeDasharray="5 4" />
        <path
          d={
            line<Row>()
              .x(at)
              .y((row) => y(figure(row, "sent")))(sent) ?? ""
          }
          fill="none"
          stroke="var(--sea)"
          strokeWidth={2.5}
        />
        {allowance && <line x1={BESIDE} x2={width} y1={y(allowance)} y2={y(allowance)} stroke="var(--ink)" strokeDasharray="2 3" />}
        {rows.map((row, place) => (
          <g key={textOf(row, "day")} onMouseEnter={() => setPointed(place)}>
            <rect x={at(row) - x.step() / 2} y={0} width={x.step()} height={height} fill="transparent" />
            {pointed === place && <circle cx={at(row)} cy={expected(row)} r={4} fill="var(--sea)" />}
            {place % Math.max(1, Math.ceil((rows.length * 44) / Math.max(width, 1))) === 0 && (
              <text x={at(row)} y={height - 5} textAnchor="middle" className="fill-quiet text-xs">
                {Number(textOf(row, "day").slice(8))}
              </text>
            )}
          </g>
        ))}
      </svg>
      <ChartTable
        title={title}
        columns={table.columns.map((column) => column.title)}
        rows={rows.map((row) => ({
          key: textOf(row, "day"),
          cells: table.columns.map((column) =>
            column.name === "day" ? dayName(textOf(row, "day")) : known(row, column.name) ? bytes(figure(row, column.name)) : "",
          ),
        }))}
      />
    </div>
  );
}
