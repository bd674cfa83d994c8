/** What was asked for, and what was not there. */
import type { Survey } from "../../api/client";
import { bytes, count, cut } from "../../figures";
import { List } from "../../parts/list";
import { narrowed, useScope } from "../../scope";
import { words } from "../../words";

type PathRow = Survey["paths"][number];
type MissingRow = Survey["missing"][number];

/** A path that narrows the scope to itself; with a modifier it is left out. */
function PathLink({ path }: { path: string }) {
  const [scope, change] = useScope();
  const filter = `path=${path}`;
  return (
    <button
      type="button"
      title={path}
      className="block max-w-full truncate text-left font-mono text-sm hover:text-sea hover:underline"
      onClick={(event) => change(event.altKey ? { without: [...scope.without, filter] } : narrowed(scope, filter))}
    >
      {cut(path, 52)}
    </button>
  );
}

export function Paths({ survey }: { survey: Survey }) {
  const most = Math.max(1, ...survey.paths.map((row) => row.requests));
  return (
    <List<PathRow>
      title={words.traffic.paths}
      rows={survey.paths}
      identify={(row) => row.path}
      share={(row) => row.requests / most}
      file="paths"
      columns={[
        { name: "path", value: (row) => row.path, show: (row) => <PathLink path={row.path} />, text: true },
        { name: "requests", value: (row) => row.requests, show: (row) => count(row.requests) },
        { name: "transfer", value: (row) => row.bytes, show: (row) => <span title={count(row.bytes)}>{bytes(row.bytes)}</span> },
      ]}
    />
  );
}

export function Missing({ survey }: { survey: Survey }) {
  const most = Math.max(1, ...survey.missing.map((row) => row.requests));
  return (
    <List<MissingRow>
      title={words.traffic.missing}
      about={words.traffic.missingAbout}
      rows={survey.missing}
      identify={(row) => row.path}
      share={(row) => row.requests / most}
      file="missing"
      below={(row) => <Referrers row={row} />}
      columns={[
        { name: "path", value: (row) => row.path, show: (row) => <PathLink path={row.path} />, text: true },
        { name: "requests", value: (row) => row.requests, show: (row) => count(row.requests) },
      ]}
    />
  );
}

function Referrers({ row }: { row: MissingRow }) {
  return (
    <ul className="mt-0.5 text-sm text-quiet">
      {row.referrers.slice(0, 2).map((from) => (
        <li key={from.referrer} className="flex gap-3" title={from.referrer}>
          <span className="w-12 shrink-0 text-right">{count(from.requests)}</span>
          <span className="truncate">{cut(from.referrer, 60)}</span>
        </li>
      ))}
      {row.without_referrer > 0 && (
        <li className="flex gap-3">
          <span className="w-12 shrink-0 text-right">{count(row.without_referrer)}</span>
          {words.traffic.typed}
        </li>
      )}
    </ul>
  );
}
