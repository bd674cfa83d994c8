/** Databases that are damaged or out of order, logs that cannot be written or have lost lines: what it is, and what to do. */
import type { Status } from "../../api/client";
import { count } from "../../figures";
import { words } from "../../words";

export function Troubles({ status }: { status: Status | undefined }) {
  if (!status) return null;
  const logs = [
    ...status.sites.map((site) => ({ name: site.name, log: site.log })),
    { name: words.noSite, log: status.no_site },
    { name: words.errors, log: status.errors },
  ];
  const troubled = logs.filter(({ log }) => log && (log.trouble || log.lost > 0));
  if (troubled.length === 0 && status.troubles.length === 0) return null;
  return (
    <ul role="alert" className="mt-3 mb-6 space-y-2" data-testid="troubles">
      {status.troubles.map((words) => (
        <li key={words} className="max-w-3xl border-l-4 border-trouble pl-4 break-words">
          {words}
        </li>
      ))}
      {troubled.map(({ name, log }) => (
        <li key={name} className="max-w-3xl border-l-4 border-trouble pl-4">
          {log?.trouble && (
            <>
              <p className="font-semibold">{words.trouble.unwritten(name, log.trouble)}</p>
              <p className="text-quiet">{words.trouble.remedy}</p>
              <p className="font-mono text-sm break-all text-quiet">{log.file}</p>
            </>
          )}
          {log && log.lost > 0 && <p>{words.trouble.lost(name, count(log.lost))}</p>}
        </li>
      ))}
    </ul>
  );
}
