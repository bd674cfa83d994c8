/** The lists of a report, each made of the console's own. */
import type { Survey } from "../api/client";
import { bytes, count, cut, seconds } from "../figures";
import { List, type Column } from "../parts/list";
import { words } from "../words";
import { ChangeNote } from "./change";

type Changes = NonNullable<Survey["paths"][number]["changes"]>;
interface Row {
  value: string;
  requests: number;
  bytes?: number;
  visitors?: number | null;
  time_ms?: number | null;
  changes?: Changes;
}

/** By what a list is ranked: the figure of a row, how it is shown, and the name of its change. */
interface Measure {
  column: string;
  of: (row: Row) => number;
  show: (row: Row) => React.ReactNode;
  change: string;
}

const sent = (row: Row) => <span title={count(row.bytes ?? 0)}>{bytes(row.bytes ?? 0)}</span>;
const measures: Record<NonNullable<Survey["by"]>, Measure> = {
  requests: { column: "requests", of: (row) => row.requests, show: (row) => count(row.requests), change: "requests" },
  bytes: { column: "transfer", of: (row) => row.bytes ?? 0, show: sent, change: "bytes" },
  visitors: { column: "visitors", of: (row) => row.visitors ?? 0, show: (row) => count(row.visitors ?? 0), change: "visitors" },
  time: { column: "time", of: (row) => row.time_ms ?? 0, show: (row) => seconds((row.time_ms ?? 0) / 1000), change: "time_ms" },
};

/** A text of an address, cut in its middle and whole when pointed at. */
function Text({ text, mono }: { text: string; mono?: boolean }) {
  return (
    <span title={text} className={`block max-w-full truncate ${mono ? "font-mono text-sm" : ""}`}>
      {cut(text, 58)}
    </span>
  );
}

interface Shape {
  title: string;
  rows: Row[];
  file: string;
  column: string;
  /** Whether the values are addresses. */
  mono?: boolean;
  /** Whether the bytes are what it is about. */
  heavy?: boolean;
  visits?: boolean;
  /** What it is ranked by, where that does not depend on what was asked for. */
  by?: keyof typeof measures;
  about?: string;
}

function Values({ report, title, rows, file, column, mono, heavy, visits, by, about }: Shape & { report: Survey }) {
  if (rows.length === 0) return null;
  // Visits are all that their lists are about; what sites load from here is about bytes, unless something else was asked for.
  const asked = visits ? "requests" : (by ?? report.by ?? "requests");
  const first = measures[heavy && asked === "requests" ? "bytes" : asked];
  const others = visits ? [] : [measures.requests, measures.bytes].filter((other) => other !== first);
  const figures = [first, ...others].map(
    (measure, place): Column<Row> => ({ name: visits ? words.report.visits : measure.column, value: measure.of, show: measure.show, minor: place > 0 }),
  );
  const columns: Column<Row>[] = [
    { name: column, value: (row) => row.value, show: (row) => <Text text={row.value} mono={mono} />, text: true },
    ...figures,
  ];
  if (report.against) {
    const change = (row: Row) => row.changes?.[first.change];
    columns.push({ name: words.report.change, value: (row) => change(row)?.difference ?? 0, show: (row) => <ChangeNote change={change(row)} /> });
  }
  const most = Math.max(1, ...rows.map(first.of));
  return <List<Row> title={title} about={about} rows={rows} identify={(row) => row.value} share={(row) => first.of(row) / most} file={file} columns={columns} />;
}

export function Paths({ report }: { report: Survey }) {
  const rows = report.paths.map((row) => ({ ...row, value: row.path }));
  return <Values report={report} title={words.traffic.paths} rows={rows} file="paths" column="path" mono />;
}

export function Clients({ report }: { report: Survey }) {
  const rows = report.clients.map((row) => ({ ...row, value: row.client }));
  return <Values report={report} title={words.report.clients} rows={rows} file="clients" column="client" mono />;
}

export function Statuses({ report }: { report: Survey }) {
  const rows = report.by_status.map((row) => ({ ...row, value: row.status === 0 ? "–" : String(row.status) }));
  return <Values report={report} title={words.report.statuses} rows={rows} file="statuses" column="status" by="requests" />;
}

/** One of the lists that have a name. */
export function Named({ report, list, heavy, visits }: { report: Survey; list: keyof typeof words.report.lists; heavy?: boolean; visits?: boolean }) {
  const rows = report.lists?.[list]?.entries ?? [];
  const mono = /pages|extensions/.test(list);
  return <Values report={report} title={words.report.lists[list]} rows={rows} file={list} column={list.replace(/_/g, " ").replace(/ies$/, "y").replace(/s$/, "")} mono={mono} heavy={heavy} visits={visits} />;
}

export function Encodings({ report }: { report: Survey }) {
  const rows = report.encodings ?? [];
  if (rows.length === 0) return null;
  const most = Math.max(1, ...rows.map((row) => row.bytes));
  return (
    <List
      title={words.report.encodings}
      rows={rows}
      identify={(row) => row.encoding}
      share={(row) => row.bytes / most}
      file="encodings"
      columns={[
        { name: "encoding", value: (row) => row.encoding, text: true },
        { name: "transfer", value: (row) => row.bytes, show: (row) => bytes(row.bytes) },
        { name: "saved", value: (row) => row.saved, show: (row) => bytes(row.saved) },
      ]}
    />
  );
}

export function Movers({ report }: { report: Survey }) {
  const rows = report.against?.movers ?? [];
  if (rows.length === 0) return null;
  const difference = (row: (typeof rows)[number]) => Math.abs(row.now - row.before);
  const most = Math.max(1, ...rows.map(difference));
  return (
    <List
      title={words.report.movers}
      rows={rows}
      identify={(row) => row.path}
      share={(row) => difference(row) / most}
      file="changes"
      columns={[
        { name: "path", value: (row) => row.path, show: (row) => <Text text={row.path} mono />, text: true },
        { name: "difference", value: (row) => row.now - row.before, order: difference, show: (row) => `${row.now < row.before ? "−" : "+"}${count(difference(row))}` },
        { name: "before", value: (row) => row.before, show: (row) => count(row.before), minor: true },
        { name: "now", value: (row) => row.now, show: (row) => count(row.now), minor: true },
      ]}
    />
  );
}

type MissingRow = Survey["missing"][number];

export function Missing({ report }: { report: Survey }) {
  const rows = report.missing;
  if (rows.length === 0) return null;
  const measure = measures[report.by ?? "requests"];
  const of = (row: MissingRow) => measure.of({ ...row, value: row.path });
  const most = Math.max(1, ...rows.map(of));
  const columns: Column<MissingRow>[] = [
    { name: "path", value: (row) => row.path, show: (row) => <Text text={row.path} mono />, text: true },
    { name: measure.column, value: of, show: (row) => measure.show({ ...row, value: row.path }) },
  ];
  if (measure !== measures.requests) {
    columns.push({ name: "requests", value: (row) => row.requests, show: (row) => count(row.requests), minor: true });
  }
  if (report.against) {
    const change = (row: MissingRow) => row.changes?.[measure.change];
    columns.push({ name: words.report.change, value: (row) => change(row)?.difference ?? 0, show: (row) => <ChangeNote change={change(row)} /> });
  }
  return (
    <List<MissingRow>
      title={words.traffic.missing}
      about={words.traffic.missingAbout}
      rows={rows}
      identify={(row) => row.path}
      share={(row) => of(row) / most}
      file="missing"
      below={(row) => <Ways row={row} />}
      columns={columns}
    />
  );
}

/** Who led to a missing page. */
function Ways({ row }: { row: MissingRow }) {
  const ways: [number, string][] = row.referrers
    .slice(0, 3)
    .map((from) => [from.requests, from.own ? `${words.report.own} ${from.referrer}` : from.referrer]);
  if (row.origins?.typed) ways.push([row.origins.typed, words.report.typed]);
  if (row.origins?.probing) ways.push([row.origins.probing, words.report.probing]);
  return (
    <ul className="mt-0.5 text-sm text-quiet">
      {ways.map(([requests, way]) => (
        <li key={way} className="flex gap-3" title={way}>
          <span className="w-12 shrink-0 text-right">{count(requests)}</span>
          <span className="truncate">{cut(way, 62)}</span>
        </li>
      ))}
    </ul>
  );
}

export function Slow({ report }: { report: Survey }) {
  const rows = report.slow?.paths ?? [];
  if (rows.length === 0) return null;
  const most = Math.max(1, ...rows.map((row) => row.p99_ms));
  const time = (milliseconds: number) => seconds(milliseconds / 1000);
  return (
    <List
      title={words.report.slowPaths}
      rows={rows}
      identify={(row) => row.path}
      share={(row) => row.p99_ms / most}
      file="slow"
      columns={[
        { name: "path", value: (row) => row.path, show: (row) => <Text text={row.path} mono />, text: true },
        { name: "slow", value: (row) => row.slow, show: (row) => count(row.slow) },
        { name: "half in", value: (row) => row.p50_ms, show: (row) => time(row.p50_ms), minor: true },
        { name: "99 % in", value: (row) => row.p99_ms, show: (row) => time(row.p99_ms) },
      ]}
    />
  );
}

export function Unread({ lines }: { lines: NonNullable<Survey["lines"]> }) {
  return (
    <ul className="mt-1">
      {lines.reasons.map((reason) => (
        <li key={reason.reason}>
          {count(reason.lines)}: {reason.reason}
        </li>
      ))}
    </ul>
  );
}
