/** One survey as a page to read: the question of each part, its picture, and the lists it summarises. */
import { ToggleGroup } from "radix-ui";
import { useState } from "react";
import type { Survey } from "../api/client";
import { Columns } from "../charts/columns";
import { WeekFan } from "../charts/week-fan";
import { bytes, count, dayName, percent, seconds } from "../figures";
import { words } from "../words";
import { byDay, byHour, week } from "./columns";
import { ChangeNote, ShareNote } from "./change";
import { Clients, Encodings, Missing, Movers, Named, Paths, Slow, Statuses, Unread } from "./lists";

export type Report = Survey & { sources?: { name: string; layout: string; site?: string | null }[] };
type Measure = "requests" | "visitors" | "bytes";

export function ReportPage({ report }: { report: Report }) {
  const said = words.report;
  const parts = Object.entries(said.parts);
  return (
    <div className="mx-auto max-w-[1240px] px-5 pb-20">
      <Head report={report} />
      {report.totals.requests > 0 && <nav aria-label={said.contents} className="sticky top-0 z-10 mt-6 flex flex-wrap gap-x-6 border-b border-line bg-paper py-2">
        {parts.map(([part, name]) => (
          <a key={part} href={`#${part}`} className="text-sea hover:underline">
            {name}
          </a>
        ))}
      </nav>}
      {report.totals.requests === 0 ? (
        <p className="mt-10 text-quiet">{said.nothing}</p>
      ) : (
        <main>
          <Traffic report={report} />
          <People report={report} />
          <Trouble report={report} />
          <Transfer report={report} />
        </main>
      )}
      <Notes report={report} />
    </div>
  );
}

function Head({ report }: { report: Report }) {
  const said = words.report;
  // A site is known by its name, whatever its logs are called.
  const names = [...new Set((report.sources ?? []).map((source) => source.site ?? source.name.split("/").at(-1) ?? source.name))];
  const title = names.length === 0 ? said.title : names.length > 2 ? `${names[0]} ${said.andMore(names.length - 1)}` : names.join(", ");
  const moment = (text: string) =>
    new Intl.DateTimeFormat("en-GB", { timeZone: report.time_zone, dateStyle: "medium", timeStyle: "short" }).format(new Date(text));
  const other = report.against;
  return (
    <header className="pt-8">
      <h1 className="flex flex-wrap items-baseline gap-x-4 text-2xl font-semibold [overflow-wrap:anywhere]">
        <Arc />
        {title}
      </h1>
      <p className="mt-1 text-quiet">
        {report.first && report.last && `${moment(report.first)} – ${moment(report.last)}, `}
        {said.zone(report.time_zone)}
        {report.masked && <>. {said.masked}</>}
      </p>
      {other && (
        <p className="text-clay">
          {other.first && other.last ? said.beside(moment(other.first), moment(other.last)) : said.besideNothing}
        </p>
      )}
    </header>
  );
}

/** The sign of the product, small. */
function Arc() {
  return (
    <svg viewBox="0 0 32 20" className="h-5 w-8 self-center text-sea" fill="none" stroke="currentColor" strokeWidth="3.4" aria-hidden="true">
      <path d="M3 18a13 13 0 0 1 26 0M10 18a6 6 0 0 1 12 0" />
    </svg>
  );
}

function Part({ part, children }: { part: keyof typeof words.report.parts; children: React.ReactNode }) {
  return (
    <section id={part} aria-label={words.report.parts[part]} className="scroll-mt-14 pt-12">
      <h2 className="text-xl font-semibold text-sea">{words.report.parts[part]}</h2>
      {children}
    </section>
  );
}

/** A figure with what it is, and how it changed. */
function Figure({ value, name, change, title }: { value: string; name: string; change?: React.ReactNode; title?: string }) {
  return (
    <div className="border-b-2 border-transparent pb-1">
      <span className="block text-3xl leading-tight font-semibold" title={title}>
        {value}
      </span>
      <span className="text-quiet">
        {name} {change}
      </span>
    </div>
  );
}

function Traffic({ report }: { report: Report }) {
  const said = words.report;
  const [measure, setMeasure] = useState<Measure>("requests");
  const show = measure === "bytes" ? bytes : count;
  const { totals, visits } = report;
  const oneDay = report.by_day.length === 1;
  const columns = oneDay && measure !== "visitors" ? byHour(report, measure) : byDay(report, measure);
  return (
    <Part part="traffic">
      <ToggleGroup.Root
        type="single"
        value={measure}
        onValueChange={(chosen) => chosen && setMeasure(chosen as Measure)}
        aria-label={said.measure}
        className="mt-3 flex flex-wrap items-end gap-x-10 gap-y-3"
      >
        {(["requests", "visitors", "bytes"] as const).map((name) => (
          <ToggleGroup.Item key={name} value={name} className="group border-b-2 border-transparent pb-1 text-left data-[state=on]:border-sea">
            <span
              className="block text-3xl leading-tight font-semibold group-data-[state=on]:text-6xl group-data-[state=on]:leading-none group-data-[state=on]:text-sea"
              data-testid={`total-${name}`}
              title={count(totals[name])}
            >
              {name === "bytes" ? bytes(totals[name]) : count(totals[name])}
            </span>
            <span className="text-quiet">
              {words.measures[name]} <ChangeNote change={totals.changes?.[name]} />
            </span>
          </ToggleGroup.Item>
        ))}
        {visits && visits.visits > 0 && (
          <Figure value={count(visits.visits)} name={said.visitsTitle} change={<ChangeNote change={visits.changes?.visits} />} />
        )}
      </ToggleGroup.Root>
      <div className="mt-3 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,1fr)_24rem] print:grid-cols-[minmax(0,1fr)_22rem]">
        <section aria-label={words.measures[measure]}>
          <Columns
            title={`${words.measures[measure]} ${oneDay ? words.traffic.hours : words.traffic.days}`}
            height={260}
            colours={["var(--sea)"]}
            show={show}
            columns={columns}
          />
        </section>
        <WeekFan title={words.traffic.fan} values={week(report)} show={(value) => said.aDay(count(Math.round(value)))} />
      </div>
      {visits && visits.visits > 0 && (
        <p className="mt-4 max-w-[70ch]">
          {said.visitsAre(
            (visits.pages / visits.visits).toFixed(1),
            percent(visits.short, visits.visits),
            seconds(visits.seconds),
            seconds(visits.middle_seconds),
          )}
        </p>
      )}
      <div className="gap-x-12 lg:columns-2 print:columns-2 [&>section]:mt-0 [&>section]:break-inside-avoid [&>section]:pt-10">
        <Paths report={report} />
        {(["sites", "servers"] as const)
          .filter((list) => (report.lists?.[list]?.entries.length ?? 0) > 1)
          .map((list) => (
            <Named key={list} report={report} list={list} />
          ))}
        <Named report={report} list="kinds" />
        <Named report={report} list="first_pages" visits />
        <Named report={report} list="last_pages" visits />
        <Movers report={report} />
      </div>
    </Part>
  );
}

function People({ report }: { report: Report }) {
  const said = words.report;
  const apart = report.apart;
  const all = report.totals.requests;
  return (
    <Part part="people">
      {apart && (
        <div className="mt-3 flex flex-wrap gap-x-10 gap-y-3">
          <Figure value={percent(apart.people, all)} name={said.byPeople} change={<ShareNote now={apart.people} all={all} change={apart.changes?.people} before={report.totals.changes?.requests} />} title={count(apart.people)} />
          <Figure value={percent(apart.crawlers, all)} name={said.byCrawlers} change={<ShareNote now={apart.crawlers} all={all} change={apart.changes?.crawlers} before={report.totals.changes?.requests} />} title={count(apart.crawlers)} />
          {apart.unnamed > 0 && <Figure value={percent(apart.unnamed, all)} name={said.unnamed} title={count(apart.unnamed)} />}
        </div>
      )}
      <div className="gap-x-12 lg:columns-2 print:columns-2 [&>section]:mt-0 [&>section]:break-inside-avoid [&>section]:pt-10">
        <Clients report={report} />
        {(["countries", "users", "crawlers", "browsers", "systems", "devices", "linking_sites", "linking_pages", "search_phrases"] as const).map((list) => (
          <Named key={list} report={report} list={list} />
        ))}
      </div>
    </Part>
  );
}

function Trouble({ report }: { report: Report }) {
  const said = words.report;
  const errors = report.by_status.filter((entry) => entry.status >= 400).reduce((sum, entry) => sum + entry.requests, 0);
  const origins = report.missing_origins;
  const slow = report.slow;
  return (
    <Part part="trouble">
      <div className="mt-3 flex flex-wrap gap-x-10 gap-y-3">
        <Figure value={percent(errors, report.totals.requests)} name={said.errors} title={count(errors)} />
        {slow && slow.measured > 0 && (
          <Figure value={count(slow.slow)} name={said.slow(seconds(slow.threshold_ms / 1000))} change={<ChangeNote change={slow.changes?.slow} />} />
        )}
      </div>
      {origins && report.missing.length > 0 && (
        <p className="mt-4 max-w-[70ch]">{said.origins(count(origins.own), count(origins.others), count(origins.typed), count(origins.probing))}</p>
      )}
      <div className="gap-x-12 lg:columns-2 print:columns-2 [&>section]:mt-0 [&>section]:break-inside-avoid [&>section]:pt-10">
        <Missing report={report} />
        <Statuses report={report} />
        <Slow report={report} />
      </div>
    </Part>
  );
}

function Transfer({ report }: { report: Report }) {
  const said = words.report;
  const saved = (report.encodings ?? []).reduce((sum, coding) => sum + coding.saved, 0);
  return (
    <Part part="transfer">
      <div className="mt-3 flex flex-wrap gap-x-10 gap-y-3">
        <Figure value={bytes(report.totals.bytes)} name={said.sent} change={<ChangeNote change={report.totals.changes?.bytes} />} title={count(report.totals.bytes)} />
        {saved > 0 && <Figure value={bytes(saved)} name={said.saved} title={count(saved)} />}
      </div>
      <div className="gap-x-12 lg:columns-2 print:columns-2 [&>section]:mt-0 [&>section]:break-inside-avoid [&>section]:pt-10">
        <Named report={report} list="extensions" heavy />
        <Encodings report={report} />
        <Named report={report} list="embedding_sites" heavy />
      </div>
    </Part>
  );
}

function Notes({ report }: { report: Report }) {
  const said = words.report;
  const read = report.lines;
  return (
    <footer className="mt-14 border-t border-line pt-4 text-sm text-quiet">
      {read && <p>{said.lines(count(read.read), count(read.unread))}</p>}
      {read && read.unread > 0 && <Unread lines={read} />}
      {report.caveats.map((caveat) => (
        <p key={caveat}>{caveat}.</p>
      ))}
      {report.by_day.length > 0 && (
        <p>{said.days(count(report.by_day.length), dayName(report.by_day[0]?.day ?? "", true), dayName(report.by_day.at(-1)?.day ?? "", true))}</p>
      )}
    </footer>
  );
}
