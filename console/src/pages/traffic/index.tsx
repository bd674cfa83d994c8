/** How much, when, what? */
import { ToggleGroup } from "radix-ui";
import { useStatus, useSurvey } from "../../api/queries";
import type { Survey } from "../../api/client";
import { Columns } from "../../charts/columns";
import { week } from "../../charts/time-columns";
import { WeekFan } from "../../charts/week-fan";
import { bytes, count } from "../../figures";
import { QueryView } from "../../parts/states";
import { usePreferences } from "../../preferences";
import { useScope } from "../../scope";
import { dateOf, minuteOf, shifted } from "../../scope/dates";
import { spanOf, todayIn, type Span } from "../../scope/period";
import { ChangeNote } from "../../tables/change";
import { changeOf, figure } from "../../tables/table";
import { words } from "../../words";
import type { PageProps } from "../props";
import { isByDay, overTime, periodOf } from "../pictures";
import { Question } from "../question";

const MEASURES = ["requests", "visitors", "visits", "bytes"];
/** What lists are ranked by where a measure is chosen; nothing else ranks by visits. */
const BY: Record<string, string> = { visitors: "visitors", bytes: "bytes" };
/** Tables that are the pictures, or stand at the head. */
const DRAWN = ["totals", "days", "hours", "week", "weekdays", "timeline"];

export default function TrafficPage({ zone }: PageProps) {
  const [scope] = useScope();
  const measure = MEASURES.includes(scope.measure) ? scope.measure : "requests";
  const survey = useSurvey(scope, zone, { show: ["traffic"], by: BY[measure], inTime: true });
  return (
    <QueryView query={survey}>
      {(survey) => (
        <>
          <Picture survey={survey} measure={measure} zone={zone} />
          <Question survey={survey} name="traffic" zone={zone} drawn={DRAWN} />
        </>
      )}
    </QueryView>
  );
}

function Picture({ survey, measure, zone }: { survey: Survey; measure: string; zone: string }) {
  const [scope, change] = useScope();
  const { show: shown } = usePreferences();
  const { totals, visits, week: ofWeek } = survey.tables;
  if (!totals) return null;
  const show = measure === "bytes" ? bytes : count;
  const total = (name: string) => (name === "visits" ? figure(visits?.rows[0], "visits") : figure(totals.rows[0], name));
  const changed = (name: string) => (name === "visits" ? visits && changeOf(visits, 0, "visits") : changeOf(totals, 0, name));
  const isUnknown = (name: string) => (name === "visits" ? !visits || visits.rows.length === 0 : totals.rows[0]?.[name] === null);
  const status = useStatus();
  const over = overTime(survey, scope, zone, [measure]);
  const { columns, step, stretch } = over;
  // Visitors and visits are counted by day: no hour has any of its own.
  const isDrawn = isByDay(over) || measure === "requests" || measure === "bytes";
  const title = `${words.measures[measure]} ${words.traffic.steps[step]}`;
  const isSent = measure === "bytes";
  const today = todayIn(zone);
  const since = status.data?.records.first ? dateOf(Date.parse(status.data.records.first), zone) : today;
  return (
    <>
      <ToggleGroup.Root
        type="single"
        value={measure}
        onValueChange={(chosen) => chosen && change({ measure: chosen === "requests" ? "" : chosen })}
        aria-label={words.report.measure}
        className="mt-2 flex flex-wrap items-end gap-x-10 gap-y-3"
      >
        {MEASURES.map((name) => (
          <ToggleGroup.Item key={name} value={name} className="group border-b-2 border-transparent pb-1 text-left data-[state=on]:border-sea">
            <span
              className="block text-3xl leading-tight font-semibold group-data-[state=on]:text-6xl group-data-[state=on]:leading-none group-data-[state=on]:text-sea"
              data-testid={`total-${name}`}
              title={count(total(name))}
            >
              {isUnknown(name) ? words.list.unknown : name === "bytes" ? bytes(total(name)) : count(total(name))}
            </span>
            <span className="text-quiet">
              {words.measures[name]} <ChangeNote change={changed(name)} />
            </span>
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
      {shown !== "lists" && (
        <div className="mt-3 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,1fr)_26rem]">
          <section aria-label={title}>
            {isDrawn ? (
              <Columns
                title={title}
                height={280}
                parts={[{ name: words.measures[measure] ?? measure, colour: "var(--sea)" }]}
                show={show}
                columns={columns}
                nothing={words.traffic.nothing}
                choose={(first, last) => change({ period: periodOf(stretch(first, last)) })}
              />
            ) : (
              <p className="mt-10 text-quiet">{words.traffic.onlyByDay(words.measures[measure] ?? measure)}</p>
            )}
          </section>
          {ofWeek && (
            <WeekFan
              title={isSent ? words.traffic.fanSent : words.traffic.fan}
              values={week(ofWeek, recordedSpan(spanOf(scope.period, today), since, today), minuteOf(Date.now(), zone), isSent ? "bytes" : "people")}
              show={(value) => (isSent ? words.traffic.sentInHour(bytes(value)) : words.report.aDay(count(Math.round(value))))}
              short={(value) => (isSent ? bytes(value) : count(Math.round(value)))}
              unit={isSent ? words.traffic.fanSentUnit : words.traffic.fanUnit}
              choose={(hours) => change({ hours: [hours] })}
            />
          )}
        </div>
      )}
    </>
  );
}

/** The days of a stretch of which anything can be recorded. */
function recordedSpan({ from, until }: Span, since: string, today: string): Span {
  const end = until.length === 10 ? until : shifted(until.slice(0, 10), 1);
  const first = from.slice(0, 10);
  return { from: first < since ? since : first, until: end > shifted(today, 1) ? shifted(today, 1) : end };
}
