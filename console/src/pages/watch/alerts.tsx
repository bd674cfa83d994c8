/** Alerts: how each is, and when they were raised within the last days. */
import type { AlertState } from "../../api/client";
import { useAlerts } from "../../api/queries";
import { QueryView } from "../../parts/states";
import { words } from "../../words";
import { AlertRow } from "./alert-row";
import { History } from "./history";
import { NewAlert } from "./new-alert";

const said = words.alerts;

export function Alerts({ zone, mayChange }: { zone: string; mayChange: boolean }) {
  const alerts = useAlerts();
  return (
    <section aria-label={said.title} className="mt-8" data-testid="alerts">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.title}</h2>
      <QueryView query={alerts}>{(alerts) => (alerts.length === 0 ? <p className="py-3 text-quiet">{said.none}</p> : <All {...{ alerts, zone, mayChange }} />)}</QueryView>
      {mayChange && <NewAlert zone={zone} />}
    </section>
  );
}

function All({ alerts, zone, mayChange }: { alerts: AlertState[]; zone: string; mayChange: boolean }) {
  return (
    <>
      <History names={alerts.map((alert) => alert.name)} zone={zone} />
      <ul>
        {alerts.map((alert) => (
          <AlertRow key={alert.name} alert={alert} zone={zone} mayChange={mayChange} />
        ))}
      </ul>
    </>
  );
}
