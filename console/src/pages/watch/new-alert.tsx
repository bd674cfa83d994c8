/** A new alert: written in a form, tried on the last 30 days, and put into the configuration. */
import { useState } from "react";
import type { NewAlert as Alert } from "../../api/client";
import { useMakeAlert, useRecipients, useTryAlert } from "../../api/queries";
import { styles } from "../../parts/styles";
import { words } from "../../words";
import { Trial } from "./alert-row";

const said = words.newAlert;
const EMPTY: Alert = { name: "", scope: [], figure: "share", of: "status=5xx", bound: "over", value: "2 %", of_last: "5 minutes", requests: 50, holds: "", tell: [] };
const STRETCHES = ["5 minutes", "15 minutes", "60 minutes", "24 hours"];

export function NewAlert({ zone }: { zone: string }) {
  const [isOpen, setOpen] = useState(false);
  return isOpen ? (
    <Form zone={zone} close={() => setOpen(false)} />
  ) : (
    <button type="button" className={`${styles.button} mt-4`} onClick={() => setOpen(true)}>
      {said.open}
    </button>
  );
}

function Form({ zone, close }: { zone: string; close: () => void }) {
  const [alert, setAlert] = useState(EMPTY);
  const recipients = useRecipients();
  const tried = useTryAlert();
  const made = useMakeAlert();
  const change = (part: Partial<Alert>) => setAlert((alert) => ({ ...alert, ...part }));
  const refused = made.data && !made.data.in_force ? made.data : undefined;
  const text = (key: "name" | "of" | "value" | "holds", label: string, width: string) => (
    <label className="flex flex-col gap-1 text-sm">
      {label}
      <input className={`${styles.field} ${width}`} value={alert[key]} onChange={(event) => change({ [key]: event.target.value })} />
    </label>
  );
  const choice = (key: "figure" | "bound" | "of_last", label: string, options: [string, string][]) => (
    <label className="flex flex-col gap-1 text-sm">
      {label}
      <select className={styles.field} value={alert[key]} onChange={(event) => change({ [key]: event.target.value })}>
        {options.map(([value, name]) => (
          <option key={value} value={value}>
            {name}
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <form
      aria-label={said.title}
      className="mt-4 rounded-md border border-line bg-sheet p-4"
      data-testid="new-alert"
      onSubmit={(event) => {
        event.preventDefault();
        tried.mutate(alert);
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        {text("name", said.name, "w-56")}
        {choice("figure", said.figure, Object.entries(said.figures))}
        {text("of", said.of, "w-44 font-mono")}
        {choice("bound", said.bound, Object.entries(said.bounds))}
        {text("value", said.value, "w-32")}
        {choice(
          "of_last",
          said.ofLast,
          STRETCHES.map((stretch) => [stretch, stretch]),
        )}
        <label className="flex flex-col gap-1 text-sm">
          {said.requests}
          <input
            type="number"
            min={0}
            className={`${styles.field} w-24`}
            value={alert.requests}
            onChange={(event) => change({ requests: Math.max(0, Math.trunc(Number(event.target.value))) })}
          />
        </label>
        <label className="flex grow flex-col gap-1 text-sm">
          {said.scope}
          <input
            className={`${styles.field} w-full font-mono`}
            placeholder="site=harbour path=/tides/*"
            onChange={(event) => change({ scope: event.target.value.split(/\s+/).filter((filter) => filter !== "") })}
          />
        </label>
      </div>
      {recipients.data && recipients.data.length > 0 && (
        <fieldset className="mt-3 flex flex-wrap gap-4 text-sm">
          <legend className="mb-1">{said.tell}</legend>
          {recipients.data.map(({ name }) => (
            <label key={name} className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={alert.tell.includes(name)}
                onChange={(event) => change({ tell: event.target.checked ? [...alert.tell, name] : alert.tell.filter((one) => one !== name) })}
              />
              {name}
            </label>
          ))}
        </fieldset>
      )}
      <div className="mt-4 flex flex-wrap items-center gap-3">
        <button type="submit" className={styles.button} disabled={tried.isPending}>
          {tried.isPending ? words.alerts.trying : words.alerts.tryIt}
        </button>
        <button type="button" className={styles.strong} disabled={made.isPending || alert.name.trim() === ""} onClick={() => made.mutate(alert, { onSuccess: (done) => done.in_force && close() })}>
          {said.make}
        </button>
        <button type="button" className={styles.quiet} onClick={close}>
          {said.cancel}
        </button>
      </div>
      <div className="mt-3" role="status">
        {tried.isError && <p className="text-trouble">{tried.error.message}</p>}
        {made.isError && <p className="text-trouble">{made.error.message}</p>}
        {refused && (
          <p className="text-trouble">
            {refused.found.length > 0 ? refused.found.map((finding) => `${finding.message}: ${finding.reason}`).join("; ") : refused.reason}
          </p>
        )}
        {tried.data && (
          <>
            <p className="text-sm text-quiet">{tried.data.condition}</p>
            <Trial trial={tried.data} zone={zone} />
          </>
        )}
      </div>
    </form>
  );
}
