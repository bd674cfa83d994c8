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
  changes?: Changes;
}

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
  about?: string;
}

function Values({ report, title, rows, file, column, mono, heavy, visits, about }: Shape & { report: Survey }) {
  if (rows.length === 0) return null;
  const measure = (row: Row) => (heavy ? (row.bytes ?? 0) : row.requests);
  const most = Math.max(1, ...rows.map(measure));
  const columns: Column<Row>[] = [
    { name: column, value: (row) => row.value, show: (row) => <Text text={row.value} mono={mono} />, text: true },
    { name: visits ? words.report.visits : "requests", value: (row) => row.requests, show: (row) => count(row.requests) },
  ];
  if (!visits) {
    const transfer: Column<Row> = { name: "transfer", value: (row) => row.bytes ?? 0, show: (row) => <span title={count(row.bytes ?? 0)}>{bytes(row.bytes ?? 0)}</span> };
    columns.splice(heavy ? 1 : 2, 0, transfer);
  }
  if (report.against) {
    const name = heavy ? "bytes" : "requests";
    columns.push({ name: words.report.change, value: (row) => row.changes?.[name]?.difference ?? 0, show: (row) => <ChangeNote change={row.changes?.[name]} /> });
  }
  return <List<Row> title={title} about={about} rows={rows} identify={(row) => row.value} share={(row) => measure(row) / most} file={file} columns={columns} />;
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
  return <Values report={report} title={words.report.statuses} rows={rows} file="statuses" column="status" />;
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
        { name: "difference", value: (row) => difference(row), show: (row) => `${row.now < row.before ? "−" : "+"}${count(difference(row))}` },
        { name: "before", value: (row) => row.before, show: (row) => count(row.before) },
        { name: "now", value: (row) => row.now, show: (row) => count(row.now) },
      ]}
    />
  );
}

type MissingRow = Survey["missing"][number];

export function Missing({ report }: { report: Survey }) {
  const rows = report.missing;
  if (rows.length === 0) return null;
  const most = Math.max(1, ...rows.map((row) => row.requests));
  const columns: Column<MissingRow>[] = [
    { name: "path", value: (row) => row.path, show: (row) => <Text text={row.path} mono />, text: true },
    { name: "requests", value: (row) => row.requests, show: (row) => count(row.requests) },
  ];
  if (report.against) {
    columns.push({ name: words.report.change, value: (row) => row.changes?.requests?.difference ?? 0, show: (row) => <ChangeNote change={row.changes?.requests} /> });
  }
  return (
    <List<MissingRow>
      title={words.traffic.missing}
      about={words.traffic.missingAbout}
      rows={rows}
      identify={(row) => row.path}
      share={(row) => row.requests / most}
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
        { name: "half in", value: (row) => row.p50_ms, show: (row) => time(row.p50_ms) },
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
