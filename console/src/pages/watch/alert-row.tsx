/** One alert: how it is, who is told, what people said about it, and when it would have been raised. */
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import type { AlertState, AlertTrial } from "../../api/client";
import { useAlertChange, useAlertTrial, type AlertChange } from "../../api/queries";
import { bytes, count, moment } from "../../figures";
import { styles } from "../../parts/styles";
import { Wide } from "../../parts/wide";
import { words } from "../../words";

const said = words.alerts;
/** For how long an alert can be silenced, in the words of the API. */
const SILENCES = ["1 hour", "8 hours", "3 days"];

export function AlertRow({ alert, zone, mayChange }: { alert: AlertState; zone: string; mayChange: boolean }) {
  const [isTried, setTried] = useState(false);
  const trial = useAlertTrial(alert.name, isTried);
  const since = alert.raised_since;
  const at = (time: string) => moment(Date.parse(time), zone);
  return (
    <li className="border-b border-line py-3" data-testid={`alert-${alert.name}`}>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <span className={`w-16 text-sm font-semibold ${since ? "text-trouble" : "text-well"}`}>{since ? said.raised : said.quiet}</span>
        <span className="font-semibold">{alert.name}</span>
        {since && <span className="text-sm text-trouble">{said.since(at(since))}</span>}
        {alert.seen_by && <span className="text-sm text-quiet">{said.seenBy(alert.seen_by)}</span>}
        <span className="ml-auto text-sm text-quiet">
          {said.now(alert.figure, alert.client ?? undefined)} · {said.times(alert.times)}
        </span>
      </div>
      <p className="mt-1 text-sm text-quiet sm:pl-20">
        {alert.condition}
        {alert.scope.length > 0 && <span className="font-mono break-all"> · {alert.scope.join(" ")}</span>}
      </p>
      <p className="text-sm text-quiet sm:pl-20">
        {alert.silence ? (
          <span className="text-attention-text">{said.silent(at(alert.silence.until), alert.silence.by, alert.silence.reason)}</span>
        ) : alert.tell.length > 0 ? (
          said.tells(alert.tell.join(", "))
        ) : (
          said.tellsNobody
        )}
      </p>
      <div className="mt-2 flex flex-wrap items-center gap-3 sm:pl-20">
        {!isTried && (
          <button type="button" className={styles.button} onClick={() => setTried(true)}>
            {said.tryIt}
          </button>
        )}
        {mayChange && <Changes alert={alert} />}
      </div>
      <div className="mt-2 sm:pl-20">
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

/** What an operator can say about it. */
function Changes({ alert }: { alert: AlertState }) {
  const change = useAlertChange(alert.name);
  const button = (does: AlertChange, label: string) => (
    <button key={label} type="button" className={styles.button} disabled={change.isPending} onClick={() => change.mutate(does)}>
      {label}
    </button>
  );
  return (
    <>
      {alert.raised_since && !alert.seen_by && button({ kind: "seen" }, said.seen)}
      {alert.silence ? button({ kind: "speak" }, said.speak) : (
        <DropdownMenu.Root>
          <DropdownMenu.Trigger className={`${styles.button} flex items-center gap-2`} disabled={change.isPending}>
            {said.silenceFor}
            <span aria-hidden="true" className="text-quiet">
              ▾
            </span>
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content className={styles.menu} sideOffset={4} align="start">
              {SILENCES.map((time) => (
                <DropdownMenu.Item key={time} className={styles.item} onSelect={() => change.mutate({ kind: "silence", time })}>
                  {time}
                </DropdownMenu.Item>
              ))}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      )}
      {change.isError && <span className="text-sm text-trouble">{change.error.message}</span>}
    </>
  );
}

/** The last ones first: they are what is known best. */
export function Trial({ trial, zone }: { trial: AlertTrial; zone: string }) {
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
