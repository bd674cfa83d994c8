/** Each part of the console in each of its states, for the tests that drive it (`e2e/parts`): no service is needed. */
import { StrictMode, useState, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import type { Allowances, ConfigDiagnostic, LogColumn, LogStatus, Now, Sites, Status } from "../src/api/client";
import { Columns } from "../src/charts/columns";
import { WeekFan } from "../src/charts/week-fan";
import "../src/console.css";
import * as figures from "../src/figures";
import { Failing, Loading, Stale, Waiting } from "../src/parts/states";
import { needsOf, type Known } from "../src/pages/now/needs";
import { offersFor } from "../src/parts/scope-bar/filter-field";
import { addressOf, scopeOf, type Scope } from "../src/scope";
import * as dates from "../src/scope/dates";
import { as, parsePeriod, periodText, spanOf, step } from "../src/scope/period";
import { cutName, sharedBeginning } from "../src/tables/cutting";
import { ChangeNote, ShareNote } from "../src/tables/change";
import { TableList } from "../src/tables/list";
import { show } from "../src/tables/show";
import { changed, filterOf, type Table, type TableColumn } from "../src/tables/table";

const key = (name: string, kind: TableColumn["kind"] = "text"): TableColumn => ({ name, title: name, kind, measure: "key", filter: name });
const sum = (name: string, kind: TableColumn["kind"] = "integer", minor = false): TableColumn => ({ name, title: name, kind, measure: "sum", minor });

const made = (name: string, more: Partial<Table>): Table => ({
  name,
  title: `Table: ${name}`,
  columns: [key("path"), sum("requests"), sum("bytes", "size")],
  order: "requests",
  rows: [],
  ...more,
});

const many = Array.from({ length: 40 }, (_, place) => ({ path: `/page-${place}`, requests: 400 - place * 10, bytes: 1024 * ((place * 7) % 40) }));

const TABLES: Table[] = [
  made("ordinary", { rows: many.slice(0, 3), total: { requests: 1170, bytes: 61_440 } }),
  made("long", { rows: many, rest: { rows: 260, figures: { requests: 12_345, bytes: 1 } } }),
  made("empty", { about: "Nothing has happened.", unknown: ["The log has no sizes."] }),
  made("compared", {
    rows: many.slice(0, 3),
    before: [
      { path: "/page-0", requests: 200 },
      { path: "/page-1", requests: 390 },
      { path: "/page-2", requests: 0 },
    ],
  }),
  made("odd", {
    rows: [
      { path: null, requests: 3, bytes: null },
      { path: "/a,b*", requests: 2, bytes: 0 },
      { path: `/${"x".repeat(200)}`, requests: 1, bytes: 5e9 },
    ],
  }),
  made("facts", {
    columns: [sum("requests"), sum("bytes", "size")],
    rows: [{ requests: 12_345, bytes: 10_000_000 }],
    before: [{ requests: 24_690, bytes: 10_000_000 }],
  }),
  made("many figures", {
    columns: [key("path"), sum("requests"), ...["b", "c", "d", "e", "f"].map((name) => sum(name))],
    rows: [{ path: "/tides/today.html", requests: 7, b: 1, c: 1, d: 1, e: 1, f: 1 }],
    before: [{ path: "/tides/today.html", requests: 5 }],
  }),
  made("details", { rows: many.slice(0, 1), details: [[{ label: "from", text: "/elsewhere", count: 7 }]] }),
];

const COLUMNS: LogColumn[] = ["host", "kind", "path", "status"].map((name) => ({
  name,
  kind: "text",
  meaning: "",
  example: `${name}=…`,
  values: name === "kind" ? ["page", "asset"] : [],
}));

/** What functions make of values, by what they are asked. */
const VALUES: [string, unknown][] = [
  ["bytes 0", figures.bytes(0)],
  ["bytes 999", figures.bytes(999)],
  ["bytes 10 MB", figures.bytes(10_000_000)],
  ["count", figures.count(1_234_567)],
  ["percent of nothing", figures.percent(1, 0)],
  ["percent", figures.percent(1, 8)],
  ["a length of time", figures.duration(0.25)],
  ["shifted over a month", dates.shifted("2026-03-01", -1)],
  ["cut", cutName("/a/very/long/path/to/a/page.html", 12, "").length],
  ["nothing as a key", show(key("path"), null)],
  ["nothing as a figure", show(sum("requests"), null)],
  ["milliseconds", show({ ...sum("p90", "duration"), unit: "milliseconds" }, 2500)],
  ["a status", show(key("status", "integer"), 1404)],
  ["a filter", filterOf(key("path"), "/a,b*\\c")],
  ["a filter for nothing", filterOf(key("referrer"), null)],
  ["grown from nothing", changed(5, 0)?.ratio],
  ["not compared", changed(5, null)],
  ["names that begin alike", sharedBeginning(["a", "b", "c"].map((name) => `/registers/1871/pages/${name}.png`))],
  ["cut where others are alike", cutName("/registers/1871/pages/a-very-long-name.png", 24, "/registers/1871/pages/")],
  ["a week", dates.weekOf("2027-01-01")],
  ["its Monday", dates.mondayOfWeek("2026-W53")],
  ["a year before the 29th", dates.yearsOn("2028-02-29", -1)],
  ["an instant before the clocks change", dates.minuteOf(dates.instantOf("2026-03-29T00:30", "Atlantic/Faroe"), "Atlantic/Faroe")],
  ["an instant of the new clock", dates.instantOf("2026-03-29T03:00", "Atlantic/Faroe") - dates.instantOf("2026-03-29T00:00", "Atlantic/Faroe")],
  ["no period", parsePeriod("2026-02-31")],
  ["no week", parsePeriod("2026-W60")],
  [
    "a period and back",
    ["2026", "2026-09", "2026-W38", "2026-09-14", "30-days", "2026-09-01..2026-09-04T08:30"].every(
      (text) => periodText(parsePeriod(text) ?? { kind: "last", days: 1 }) === text,
    ),
  ],
  ["the month before", periodText(step({ kind: "month", first: "2026-03-01" }, -1, "2026-09-14"))],
  ["the days before", periodText(step({ kind: "last", days: 7 }, -1, "2026-09-14"))],
  ["and back again", periodText(step({ kind: "between", from: "2026-09-01", until: "2026-09-08" }, 1, "2026-09-14"))],
  ["the hours before", periodText(step({ kind: "between", from: "2026-09-01T10:00", until: "2026-09-01T12:30" }, -1, "2026-09-14"))],
  ["the week of those", periodText(as("week", { kind: "last", days: 30 }, "2026-09-14"))],
  ["a year's span", JSON.stringify(spanOf({ kind: "year", first: "2026-01-01" }, "2026-09-14"))],
  [
    "columns offered",
    offersFor("st", COLUMNS, new Map())
      .map((offer) => offer.text)
      .join(" "),
  ],
  [
    "values offered",
    offersFor("!kind=page,as", COLUMNS, new Map())
      .map((offer) => offer.text)
      .join(" "),
  ],
  [
    "values that were seen",
    offersFor("path=/ti", COLUMNS, new Map([["path", ["/", "/tides/", "/tides/today.html"]]]))
      .map((offer) => offer.text)
      .join(" "),
  ],
];

const SCOPE: Scope = {
  ...scopeOf("http://console.example/traffic?site=harbour&period=2026-W38&only=path%3D%2Fa%26b&hours=Mon+8&who=people"),
  trail: "192.0.2.7",
};

/** What the page Now would name, by what has happened. */
const LOG: LogStatus = { file: "/srv/lamp.log", recorded: 7, unread: 0, lag: 0, lost: 0, trouble: null };
const STATUS = { sites: [{ name: "lamp", hosts: [], log: LOG }], troubles: [], no_site: null, errors: LOG } as unknown as Status;
const now = (requests: number, failed: number) =>
  ({
    totals: made("totals", { rows: [{ requests }] }),
    classes: made("classes", { rows: [{ class: "5xx", requests: failed }] }),
  }) as unknown as Now;
const withLog = (log: Partial<LogStatus>) => ({ ...STATUS, sites: [{ ...STATUS.sites[0], log: { ...LOG, ...log } }] }) as Status;
const certified = (days: number, is_made = false) =>
  ({ sites: [{ name: "lamp", hosts: [{ name: "lamp.example", is_main: true, certificate: { days, is_made, issuer: "", ends: "" } }] }] }) as unknown as Sites;
const allowed = (sent: number, runs_out: string | null) =>
  ({ month: "2026-09", of: [{ site: "lamp", allowance: 8e9, sent, forecast: { expected: 9e9, least: 8e9, most: 1e10, runs_out, from_days: 35 } }] }) as unknown as Allowances;
const found = (severity: string) => [{ severity } as ConfigDiagnostic];

const NEEDS: [string, Partial<Known>][] = [
  ["nothing", {}],
  ["few failures", { now: now(100, 4) }],
  ["a small share of failures", { now: now(10_000, 90) }],
  ["many failures", { now: now(1000, 10) }],
  ["a full disk", { status: withLog({ trouble: "No space left on device", lost: 3 }) }],
  ["unread lines", { status: withLog({ unread: 12 }) }],
  ["records behind", { status: withLog({ lag: 5e6 }) }],
  ["records a little behind", { status: withLog({ lag: 5e5 }) }],
  ["a certificate that ends", { sites: certified(13) }],
  ["a certificate that lasts", { sites: certified(14) }],
  ["a certificate that has ended", { sites: certified(-1) }],
  ["a certificate made here", { sites: certified(3, true) }],
  ["an allowance that lasts", { allowances: allowed(5e9, null) }],
  ["an allowance that does not", { allowances: allowed(5e9, "2026-09-28") }],
  ["an allowance that is used up", { allowances: allowed(9e9, "2026-09-20") }],
  ["remarks on the configuration", { check: found("remark") }],
  ["errors in the configuration", { check: found("error") }],
  ["the worst first", { allowances: allowed(5e9, "2026-09-28"), now: now(100, 50) }],
];

function Part({ name, children }: { name: string; children: ReactNode }) {
  return (
    <section data-part={name} className="border-b border-line p-4">
      {children}
    </section>
  );
}

function Parts() {
  const [asked, setAsked] = useState("");
  const [again, setAgain] = useState(0);
  const days = (count: number) =>
    Array.from({ length: count }, (_, day) => ({ key: String(day), label: `d${day}`, name: `day ${day}`, parts: [day * 10, 5], behind: day }));
  const fan = Array.from({ length: 7 }, (_, day) => Array.from({ length: 24 }, (_, hour) => (day === 6 ? undefined : day * hour)));
  return (
    <main className="mx-auto max-w-[1000px]">
      <h1 className="p-4 text-xl font-semibold">Parts</h1>
      <output data-testid="asked">{asked}</output>
      {TABLES.map((table) => (
        <Part key={table.name} name={`table ${table.name}`}>
          <TableList table={table} zone="UTC" narrow={(filter, without) => setAsked(`${without ? "without" : "only"} ${filter}`)} />
        </Part>
      ))}
      <div className="w-[592px]">
        <Part name="half a page">
          {TABLES.filter((table) => table.name === "many figures").map((table) => (
            <TableList key={table.name} table={table} />
          ))}
        </Part>
      </div>
      <Part name="loading">
        <Loading />
      </Part>
      <Part name="failing">
        <Failing error={new Error("the disk is gone")} again={() => setAgain(again + 1)} />
        <span data-testid="again">{again}</span>
      </Part>
      <Part name="stale">
        <Stale />
      </Part>
      <Part name="waiting">
        <Waiting />
      </Part>
      <Part name="changes">
        {[changed(150, 100), changed(50, 100), changed(100, 100), changed(2000, 100), changed(5, 0), changed(0, 0)].map((change, place) => (
          <p key={place} data-change={place}>
            <ChangeNote change={change} />
          </p>
        ))}
        <p data-change="share">
          <ShareNote part={20} all={100} partBefore={10} allBefore={100} />
        </p>
      </Part>
      {[0, 1, 120].map((count) => (
        <Part key={count} name={`columns ${count}`}>
          <Columns
            title={`${count} columns`}
            columns={days(count)}
            parts={[
              { name: "people", colour: "var(--sea)" },
              { name: "crawlers", colour: "var(--clay)" },
            ]}
            height={160}
            show={figures.count}
            choose={(first, last) => setAsked(`chosen ${first.name} to ${last.name}`)}
            nothing="nothing happened"
          />
        </Part>
      ))}
      <Part name="week fan">
        <WeekFan
          title="When"
          values={fan}
          show={(value) => figures.count(value)}
          short={figures.count}
          unit="of them"
          choose={(hours) => setAsked(`hours ${hours}`)}
        />
      </Part>
      <Part name="needs">
        <dl>
          {NEEDS.map(([name, known]) => (
            <div key={name}>
              <dt>{name}</dt>
              <dd data-need={name}>
                {needsOf({ status: STATUS, now: now(100, 0), ...known })
                  .map((need) => `${need.severity}: ${need.text}${need.to ? ` → ${need.to.page ?? ""}` : ""}`)
                  .join(" | ")}
              </dd>
            </div>
          ))}
        </dl>
      </Part>
      <Part name="values">
        <dl>
          {VALUES.map(([name, value]) => (
            <div key={name}>
              <dt>{name}</dt>
              <dd data-value={name}>{String(value)}</dd>
            </div>
          ))}
          <div>
            <dt>an address</dt>
            <dd data-value="an address">{addressOf(SCOPE)}</dd>
          </div>
        </dl>
      </Part>
    </main>
  );
}

const root = document.getElementById("root");
if (!root) throw new Error("the page has no place for its parts");
// Whoever tests asks for figures of their own.
Object.assign(window, { figures });

createRoot(root).render(
  <StrictMode>
    <Parts />
  </StrictMode>,
);
