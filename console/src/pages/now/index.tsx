/** Is everything well? What needs me? */
import { lazy, Suspense, useEffect, useRef, useState } from "react";
import type { Now } from "../../api/client";
import { useNow, useStatus } from "../../api/queries";
import { Columns } from "../../charts/columns";
import { bytes, clock, count, rate } from "../../figures";
import { QueryView } from "../../parts/states";
import { usePreferences } from "../../preferences";
import { useScope } from "../../scope";
import { minuteOf } from "../../scope/dates";
import { figure, type Row } from "../../tables/table";
import { words } from "../../words";
import type { PageProps } from "../props";
import { Answer } from "./answer";
import { ActiveClients } from "./active-clients";
import { Latest } from "./latest";

/** The first view does not wait for them. */
const FindingsList = lazy(() => import("../../parts/findings").then((part) => ({ default: part.FindingsList })));

const CLASSES = ["2", "3", "4", "5"];
const COLOURS = ["var(--sea)", "var(--moved)", "var(--attention)", "var(--trouble)"];

export function NowPage({ zone }: PageProps) {
  const [scope] = useScope();
  const now = useNow(scope.sites);
  return <QueryView query={now}>{(now) => <View now={now} zone={zone} />}</QueryView>;
}

function View({ now, zone }: { now: Now; zone: string }) {
  const [scope, change] = useScope();
  const status = useStatus();
  const { show } = usePreferences();
  const pace = usePace(now, scope.sites.length === 0);
  const minutes = lastHour(now);
  const ofClass = (digit: string) =>
    figure(
      now.classes.rows.find((row) => row.class === `${digit}xx`),
      "requests",
    );
  const total = (name: string) => figure(now.totals.rows[0], name);
  const name = (time: number) => clock(time, zone);
  return (
    <>
      {status.data && <Answer status={status.data} now={now} />}
      <div className="mt-5 flex flex-wrap items-end gap-x-12 gap-y-4">
        <p>
          <span className="block text-3xl leading-none font-semibold text-sea" data-testid="pace">
            {pace === null ? rate(0) : rate(pace)}
          </span>
          <span className="text-quiet">{words.now.rate}</span>
        </p>
        <dl className="flex flex-wrap gap-x-8 gap-y-2">
          <Part name={words.measures.requests ?? ""} value={count(total("requests"))} id="requests" />
          {CLASSES.map((digit, place) => (
            <Part key={digit} name={words.classes[digit] ?? ""} value={count(ofClass(digit))} mark={COLOURS[place]} id={`class-${digit}`} />
          ))}
          <Part name={words.measures.bytes ?? ""} value={bytes(total("bytes"))} mark="var(--clay)" id="transfer" />
        </dl>
      </div>
      {show !== "pictures" && (
        <Suspense fallback={null}>
          <FindingsList />
        </Suspense>
      )}
      {show !== "lists" && (
        <div className="mt-6 grid gap-x-12 gap-y-2 lg:grid-cols-[minmax(0,2fr)_minmax(0,1fr)]">
          <section aria-label={words.now.hour}>
            <Columns
              title={words.now.hour}
              hasLegend={false}
              height={180}
              parts={CLASSES.map((digit, place) => ({ name: words.classes[digit] ?? "", colour: COLOURS[place] ?? "" }))}
              show={count}
              nothing={words.now.quiet}
              columns={minutes.map(({ time, row }) => ({
                key: String(time),
                label: name(time),
                name: name(time),
                parts: CLASSES.map((digit) => figure(row, `${digit}xx`)),
              }))}
              choose={(first, last) =>
                change({
                  page: "traffic",
                  period: { kind: "between", from: minuteOf(Number(first.key), zone), until: minuteOf(Number(last.key) + 60_000, zone) },
                })
              }
            />
          </section>
          <section aria-label={words.now.transfer}>
            <Columns
              title={words.now.transfer}
              height={180}
              parts={[{ name: words.measures.bytes ?? "", colour: "var(--clay)" }]}
              show={bytes}
              columns={minutes.map(({ time, row }) => ({ key: String(time), label: name(time), name: name(time), parts: [figure(row, "bytes")] }))}
            />
          </section>
        </div>
      )}
      {show !== "pictures" && (
        <div className="mt-6 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,2fr)_minmax(0,1fr)]">
          <Latest requests={now.latest} zone={zone} />
          <ActiveClients clients={now.clients} />
        </div>
      )}
    </>
  );
}

function Part({ name, value, mark, id }: { name: string; value: string; mark?: string; id: string }) {
  return (
    <div>
      <dt className="flex items-center gap-1.5 text-sm text-quiet">
        {mark && <span className="inline-block h-2.5 w-2.5 rounded-sm" style={{ background: mark }} />}
        {name}
      </dt>
      <dd className="text-xl font-semibold" data-testid={id}>
        {value}
      </dd>
    </div>
  );
}

interface Minute {
  time: number;
  row?: Row;
}

/** All sixty minutes, those without a request too. */
function lastHour(now: Now): Minute[] {
  const known = new Map(now.minutes.rows.map((row) => [figure(row, "time"), row]));
  const last = now.time - (now.time % 60_000);
  return Array.from({ length: 60 }, (_, place) => {
    const time = last - (59 - place) * 60_000;
    return { time, row: known.get(time) };
  });
}

/** Requests a second, from what came between the last answers, smoothed so that it can be read. */
function usePace(now: Now, all: boolean): number | null {
  const seen = useRef<{ time: number; answered: number }[]>([]);
  const [pace, setPace] = useState<number | null>(null);
  useEffect(() => {
    // For one site, or at first, the running minute and the one before it tell.
    const first = seen.current[0];
    if (!all || !first) {
      const recent = now.minutes.rows.filter((row) => figure(row, "time") > now.time - 120_000);
      const from = now.time - (now.time % 60_000) - 60_000;
      setPace(recent.reduce((sum, row) => sum + figure(row, "requests"), 0) / ((now.time - from) / 1000));
    } else if (now.time > first.time && now.answered >= first.answered) {
      setPace(((now.answered - first.answered) * 1000) / (now.time - first.time));
    }
    seen.current = [...seen.current.filter((one) => one.time > now.time - 12_000), { time: now.time, answered: now.answered }];
  }, [now, all]);
  return pace;
}
