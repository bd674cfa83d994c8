/** One survey as a page to read: the question of each part, its picture, and the tables that answer it. */
import { ToggleGroup } from "radix-ui";
import { useEffect, useState } from "react";
import type { Survey } from "../api/client";
import { Columns } from "../charts/columns";
import { WeekFan } from "../charts/week-fan";
import { bytes, count, dayName, percent } from "../figures";
import { ChangeNote, ShareNote } from "../tables/change";
import { TableList } from "../tables/list";
import { changeOf, figure, textOf, type Table } from "../tables/table";
import { words } from "../words";
import { byDay, byHour, span, week } from "../charts/time-columns";
import { dateOf, shifted } from "../scope/dates";

export type Report = Survey & { sources?: { name: string; layout: string; site?: string | null }[] };

/** Tables that are pictures here, or stand at the head. */
const DRAWN = new Set(["days", "hours", "week", "timeline", "totals", "weekdays", "months", "people_and_crawlers"]);

export function ReportPage({ report }: { report: Report }) {
  const said = words.report;
  const totals = report.tables.totals;
  const isEmpty = !totals || figure(totals.rows[0], "requests") === 0;
  // An address with a part in it leads there: the part was not there yet when the page was opened.
  useEffect(() => document.getElementById(window.location.hash.slice(1))?.scrollIntoView(), []);
  return (
    <div className="mx-auto max-w-[1240px] px-5 pb-20">
      <Head report={report} />
      {!isEmpty && (
        <nav aria-label={said.contents} className="sticky top-0 z-10 mt-6 flex flex-wrap gap-x-6 border-b border-line bg-paper py-2">
          {report.questions.map(({ name, title }) => (
            <a key={name} href={`#${name}`} className="text-sea hover:underline">
              {title}
            </a>
          ))}
        </nav>
      )}
      {isEmpty ? (
        <p className="mt-10 text-quiet">{said.nothing}</p>
      ) : (
        <main>
          {report.questions.map((question) => (
            <Question key={question.name} report={report} question={question} totals={totals} />
          ))}
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
      {other && <p className="text-clay">{other.first && other.last ? said.beside(moment(other.first), moment(other.last)) : said.besideNothing}</p>}
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

interface QuestionProps {
  report: Report;
  question: Report["questions"][number];
  totals: Table;
}

/** One question: the figure or picture that answers it at a glance, and its tables. */
function Question({ report, question, totals }: QuestionProps) {
  const tables = (names: string[]) =>
    names
      .filter((name) => !DRAWN.has(name))
      .map((name) => report.tables[name])
      .filter((table) => table !== undefined);
  const further = tables(question.further ?? []);
  return (
    <section id={question.name} aria-label={question.title} className="scroll-mt-14 pt-12">
      <h2 className="text-xl font-semibold text-sea">{question.title}</h2>
      {question.name === "traffic" && <Traffic report={report} totals={totals} />}
      {question.name === "people" && report.tables.people_and_crawlers && <Who table={report.tables.people_and_crawlers} totals={totals} />}
      {question.name === "trouble" && <Share totals={totals} name="errors" title={words.report.errors} />}
      {question.name === "transfer" && <Sent totals={totals} />}
      <div className={LISTS}>
        {tables(question.tables).map((table) => (
          <TableList key={table.name} table={table} zone={report.time_zone} />
        ))}
      </div>
      {further.length > 0 && (
        <details className="mt-8">
          <summary className="cursor-pointer text-sea">{words.report.further(further.map((table) => table.title))}</summary>
          <div className={LISTS}>
            {further.map((table) => (
              <TableList key={table.name} table={table} zone={report.time_zone} />
            ))}
          </div>
        </details>
      )}
    </section>
  );
}

const LISTS = "gap-x-12 lg:columns-2 print:columns-2 [&>section]:mt-0 [&>section]:break-inside-avoid [&>section]:pt-10";

/** A figure with what it is, and how it changed. */
function Figure({ value, name, change, title }: { value: string; name: string; change?: React.ReactNode; title?: string }) {
  return (
    <div className="mt-3 border-b-2 border-transparent pb-1">
      <span className="block text-3xl leading-tight font-semibold" title={title}>
        {value}
      </span>
      <span className="text-quiet">
        {name} {change}
      </span>
    </div>
  );
}

/** A figure of everything as its part of all requests. */
function Share({ totals, name, title }: { totals: Table; name: string; title: string }) {
  const [part, all] = [figure(totals.rows[0], name), figure(totals.rows[0], "requests")];
  const before = totals.before?.[0];
  const change = <ShareNote part={part} all={all} partBefore={before?.[name]} allBefore={before?.requests} />;
  return <Figure value={percent(part, all)} name={title} change={change} title={count(part)} />;
}

/** Who asked, as parts of all requests. */
function Who({ table, totals }: { table: Table; totals: Table }) {
  const all = figure(totals.rows[0], "requests");
  return (
    <div className="flex flex-wrap gap-x-10">
      {table.rows.map((row, place) => {
        const part = figure(row, "requests");
        const change = <ShareNote part={part} all={all} partBefore={table.before?.[place]?.requests} allBefore={totals.before?.[0]?.requests} />;
        return <Figure key={textOf(row, "who")} value={percent(part, all)} name={words.report.by(textOf(row, "who"))} change={change} title={count(part)} />;
      })}
    </div>
  );
}

function Sent({ totals }: { totals: Table }) {
  const sent = figure(totals.rows[0], "bytes");
  return <Figure value={bytes(sent)} name={words.report.sent} change={<ChangeNote change={changeOf(totals, 0, "bytes")} />} title={count(sent)} />;
}

function Traffic({ report, totals }: { report: Report; totals: Table }) {
  const said = words.report;
  const [measure, setMeasure] = useState("requests");
  const show = measure === "bytes" ? bytes : count;
  const { days, hours, week: ofWeek } = report.tables;
  const whole = span(days);
  const oneDay = days?.rows.length === 1;
  const other = report.against;
  const from = other?.from ? dateOf(Date.parse(other.from), report.time_zone) : span(other?.days)?.from;
  const against = other && from ? { days: other.days, from } : undefined;
  const columns = oneDay && hours && measure !== "visitors" ? byHour(hours, measure) : days && whole ? byDay(days, whole, [measure], against) : [];
  return (
    <>
      <ToggleGroup.Root
        type="single"
        value={measure}
        onValueChange={(chosen) => chosen && setMeasure(chosen)}
        aria-label={said.measure}
        className="mt-3 flex flex-wrap items-end gap-x-10 gap-y-3"
      >
        {(["requests", "visitors", "bytes"] as const).map((name) => {
          const total = figure(totals.rows[0], name);
          return (
            <ToggleGroup.Item key={name} value={name} className="group border-b-2 border-transparent pb-1 text-left data-[state=on]:border-sea">
              <span
                className="block text-3xl leading-tight font-semibold group-data-[state=on]:text-6xl group-data-[state=on]:leading-none group-data-[state=on]:text-sea"
                data-testid={`total-${name}`}
                title={count(total)}
              >
                {name === "bytes" ? bytes(total) : count(total)}
              </span>
              <span className="text-quiet">
                {words.measures[name]} <ChangeNote change={changeOf(totals, 0, name)} />
              </span>
            </ToggleGroup.Item>
          );
        })}
      </ToggleGroup.Root>
      <div className="mt-3 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,1fr)_24rem] print:grid-cols-[minmax(0,1fr)_22rem]">
        <section aria-label={words.measures[measure]}>
          <Columns
            title={`${words.measures[measure]} ${words.traffic.steps[oneDay ? "hour" : "day"]}`}
            height={260}
            parts={[{ name: words.measures[measure] ?? measure, colour: "var(--sea)" }]}
            show={show}
            columns={columns}
          />
        </section>
        {ofWeek && (
          <WeekFan
            title={words.traffic.fan}
            values={week(ofWeek, whole)}
            show={(value) => said.aDay(count(Math.round(value)))}
            short={(value) => count(Math.round(value))}
            unit={words.traffic.fanUnit}
          />
        )}
      </div>
    </>
  );
}

function Notes({ report }: { report: Report }) {
  const said = words.report;
  const read = report.lines;
  const whole = span(report.tables.days);
  return (
    <footer className="mt-14 border-t border-line pt-4 text-sm text-quiet">
      {read && <p>{said.lines(count(read.read), count(read.unread))}</p>}
      {read && read.unread > 0 && (
        <ul className="mt-1">
          {read.reasons.map((reason) => (
            <li key={reason.reason}>
              {count(reason.lines)}: {reason.reason}
            </li>
          ))}
        </ul>
      )}
      {report.caveats.map((caveat) => (
        <p key={caveat}>{caveat}.</p>
      ))}
      {whole && <p>{said.days(count(report.tables.days?.rows.length ?? 0), dayName(whole.from, true), dayName(shifted(whole.until, -1), true))}</p>}
    </footer>
  );
}
