/** Alerts: how each is, since when, and when it would have been raised within the last month. */
import { useState } from "react";
import type { AlertState, AlertTrial } from "../../api/client";
import { useAlerts, useAlertTrial } from "../../api/queries";
import { bytes, count, moment } from "../../figures";
import { QueryView } from "../../parts/states";
import { styles } from "../../parts/styles";
import { Wide } from "../../parts/wide";
import { words } from "../../words";

const said = words.alerts;

export function Alerts({ zone }: { zone: string }) {
  const alerts = useAlerts();
  return (
    <section aria-label={said.title} className="mt-8" data-testid="alerts">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.title}</h2>
      <QueryView query={alerts}>
        {(alerts) =>
          alerts.length === 0 ? (
            <p className="py-3 text-quiet">{said.none}</p>
          ) : (
            <ul>
              {alerts.map((alert) => (
                <Alert key={alert.name} alert={alert} zone={zone} />
              ))}
            </ul>
          )
        }
      </QueryView>
    </section>
  );
}

function Alert({ alert, zone }: { alert: AlertState; zone: string }) {
  const [isTried, setTried] = useState(false);
  const trial = useAlertTrial(alert.name, isTried);
  const since = alert.raised_since;
  return (
    <li className="border-b border-line py-3" data-testid={`alert-${alert.name}`}>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <span className={`w-16 text-sm font-semibold ${since ? "text-trouble" : "text-well"}`}>{since ? said.raised : said.quiet}</span>
        <span className="font-semibold">{alert.name}</span>
        {since && <span className="text-sm text-trouble">{said.since(moment(Date.parse(since), zone))}</span>}
        <span className="ml-auto text-sm text-quiet">
          {said.now(alert.figure, alert.client ?? undefined)} · {said.times(alert.times)}
        </span>
      </div>
      <p className="mt-1 text-sm text-quiet sm:pl-20">
        {alert.condition}
        {alert.scope.length > 0 && <span className="font-mono break-all"> · {alert.scope.join(" ")}</span>}
      </p>
      <div className="mt-2 sm:pl-20">
        {!isTried && (
          <button type="button" className={styles.button} onClick={() => setTried(true)}>
            {said.tryIt}
          </button>
        )}
        {isTried && trial.isPending && (
          <p role="status" className="text-quiet">
            {said.trying}
          </p>
        )}
        {trial.isError && <p className="text-trouble">{trial.error.message}</p>}
        {trial.data && <Trial trial={trial.data} zone={zone} />}
      </div>
    </li>
  );
}

/** The last ones first: they are what is known best. */
function Trial({ trial, zone }: { trial: AlertTrial; zone: string }) {
  const { columns, rows } = trial.table;
  if (rows.length === 0) return <p className="text-well">{said.never(count(trial.requests))}</p>;
  return (
    <Wide name={trial.name}>
      <table className="w-full min-w-[32rem] max-w-3xl text-[0.95rem]">
        <caption className="pb-1 text-left text-sm text-quiet">{said.found(count(rows.length), count(trial.requests))}</caption>
        <thead>
          <tr className="border-b border-line text-left text-sm text-quiet">
            {columns.map((column) => (
              <th key={column.name} scope="col" className="py-1 pr-4 font-normal">
                {column.title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {[...rows].reverse().map((row, place) => (
            <tr key={place} className="border-b border-line">
              {columns.map((column) => (
                <td key={column.name} className="py-1 pr-4">
                  {shown(column.kind, row[column.name], zone)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

function shown(kind: string, cell: unknown, zone: string): string {
  if (cell === null || cell === undefined) return said.goesOn;
  if (typeof cell !== "number") return String(cell);
  return kind === "time" ? moment(cell, zone) : kind === "size" ? bytes(cell) : count(cell);
}
