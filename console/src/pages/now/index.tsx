/** Is everything well? What needs me? */
import { useEffect, useRef, useState } from "react";
import type { Now } from "../../api/client";
import { useNow, useStatus } from "../../api/queries";
import { Columns } from "../../charts/columns";
import { bytes, clock, count, rate } from "../../figures";
import { Failing, Loading, Stale, Waiting } from "../../parts/states";
import { useScope } from "../../scope";
import { figure, type Row } from "../../tables/table";
import { words } from "../../words";
import { Latest } from "./latest";
import { Troubles } from "./troubles";

const CLASSES = ["2", "3", "4", "5"];
const COLOURS = ["var(--sea)", "var(--moved)", "var(--attention)", "var(--trouble)"];

export function NowPage({ zone }: { zone: string }) {
  const [scope] = useScope();
  const now = useNow(scope.sites);
  const status = useStatus();
  const pace = usePace(now.data, scope.sites.length === 0);
  if (now.isError && !now.data)
    return (
      <>
        <Troubles status={status.data} />
        <Failing error={now.error} again={() => void now.refetch()} />
      </>
    );
  if (!now.data) return <Loading />;
  const minutes = lastHour(now.data);
  const ofClass = (digit: string) => figure(now.data.classes.rows.find((row) => row.class === `${digit}xx`), "requests");
  const total = (name: string) => figure(now.data.totals.rows[0], name);
  return (
    <>
      {now.isError && <Stale />}
      <Troubles status={status.data} />
      {now.isPlaceholderData && <Waiting />}
      <div aria-busy={now.isPlaceholderData} className={now.isPlaceholderData ? "opacity-40" : ""} data-testid="figures">
      <div className="mt-2 flex flex-wrap items-end gap-x-12 gap-y-4">
        <p>
          <span className="block text-6xl leading-none font-semibold text-sea" data-testid="pace">
            {pace === null ? "–" : rate(pace)}
          </span>
          <span className="text-quiet">{words.now.rate}</span>
        </p>
        <dl className="flex flex-wrap gap-x-8 gap-y-2">
          <Part name={words.measures.requests} value={count(total("requests"))} mark="var(--line)" id="requests" />
          {CLASSES.map((digit, place) => (
            <Part key={digit} name={words.classes[digit] ?? ""} value={count(ofClass(digit))} mark={COLOURS[place] ?? ""} id={`class-${digit}`} />
          ))}
          <Part name={words.measures.bytes} value={bytes(total("bytes"))} mark="var(--clay)" id="transfer" />
        </dl>
      </div>
      <section className="mt-4" aria-label={words.now.hour}>
        <Columns
          title={words.now.hour}
          height={230}
          colours={COLOURS}
          show={count}
          columns={minutes.map((minute) => ({
            key: String(minute.time),
            label: clock(minute.time, zone),
            name: clock(minute.time, zone),
            parts: CLASSES.map((digit) => figure(minute.row, `${digit}xx`)),
          }))}
        />
        {total("requests") === 0 && <p className="text-quiet">{words.now.quiet}</p>}
      </section>
      <section className="mt-2" aria-label={words.now.transfer}>
        <h2 className="text-lg font-semibold">{words.now.transfer}</h2>
        <Columns
          title={words.now.transfer}
          height={100}
          colours={["var(--clay)"]}
          show={bytes}
          columns={minutes.map((minute) => ({
            key: String(minute.time),
            label: "",
            name: clock(minute.time, zone),
            parts: [figure(minute.row, "bytes")],
          }))}
        />
      </section>
      <Latest requests={now.data.latest} zone={zone} />
      </div>
    </>
  );
}

function Part({ name, value, mark, id }: { name: string; value: string; mark: string; id: string }) {
  return (
    <div>
      <dt className="flex items-center gap-1.5 text-sm text-quiet">
        <span className="inline-block h-2.5 w-2.5 rounded-sm" style={{ background: mark }} />
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
function usePace(now: Now | undefined, all: boolean): number | null {
  const seen = useRef<{ time: number; answered: number }[]>([]);
  const [pace, setPace] = useState<number | null>(null);
  useEffect(() => {
    if (!now) return;
    // For one site, the running minute and the one before it tell.
    if (!all) {
      const recent = now.minutes.rows.filter((row) => figure(row, "time") > now.time - 120_000);
      const from = now.time - (now.time % 60_000) - 60_000;
      setPace(recent.reduce((sum, row) => sum + figure(row, "requests"), 0) / ((now.time - from) / 1000));
      return;
    }
    seen.current = [...seen.current.filter((one) => one.time > now.time - 12_000), { time: now.time, answered: now.answered }];
    const first = seen.current[0];
    if (first && now.time > first.time && now.answered >= first.answered) {
      setPace(((now.answered - first.answered) * 1000) / (now.time - first.time));
    }
  }, [now, all]);
  return pace;
}
