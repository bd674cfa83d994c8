/** Who comes, from where, with what? */
import type { Survey } from "../../api/client";
import { useSurvey } from "../../api/queries";
import { Columns } from "../../charts/columns";
import { Shares } from "../../charts/shares";
import { count, percent } from "../../figures";
import { Figure } from "../../parts/figure";
import { QueryView } from "../../parts/states";
import { usePreferences } from "../../preferences";
import { useNarrowing, useScope } from "../../scope";
import { ChangeNote, ShareNote } from "../../tables/change";
import { changeOf, figure, textOf } from "../../tables/table";
import { words } from "../../words";
import type { PageProps } from "../props";
import { isByDay, overTime, periodOf } from "../pictures";
import { Question } from "../question";

/** Tables that are pictures here, beside being lists. */
const SHARED = ["countries", "devices", "browsers", "systems"];

export default function PeoplePage({ zone }: PageProps) {
  const [scope] = useScope();
  const survey = useSurvey(scope, zone, { show: ["people", "totals", "days"], inTime: true });
  return (
    <QueryView query={survey}>
      {(survey) => (
        <>
          <Picture survey={survey} zone={zone} />
          <Question survey={survey} name="people" zone={zone} drawn={["people_and_crawlers"]} />
        </>
      )}
    </QueryView>
  );
}

function Picture({ survey, zone }: { survey: Survey; zone: string }) {
  const [scope, change] = useScope();
  const { show } = usePreferences();
  const { narrow } = useNarrowing();
  const { totals, people_and_crawlers: who } = survey.tables;
  if (!totals) return null;
  const total = totals.rows[0];
  const visitors = figure(total, "visitors");
  const over = overTime(survey, scope, zone, ["visitors"]);
  const hasVisitors = isByDay(over);
  const drawn = hasVisitors ? over : overTime(survey, scope, zone, ["requests"]);
  const what = (hasVisitors ? words.measures.visitors : words.measures.requests) ?? "";
  const title = `${what} ${words.traffic.steps[drawn.step]}`;
  return (
    <>
      <div className="mt-2 flex flex-wrap items-end gap-x-10 gap-y-3">
        <Figure
          value={total?.visitors === null ? words.list.unknown : count(visitors)}
          name={words.people.visitors}
          change={<ChangeNote change={changeOf(totals, 0, "visitors")} />}
          isMain
          id="total-visitors"
        />
        {who?.rows.map((row, place) => {
          const [part, all] = [figure(row, "requests"), figure(total, "requests")];
          const note = <ShareNote part={part} all={all} partBefore={who.before?.[place]?.requests} allBefore={totals.before?.[0]?.requests} />;
          return <Figure key={textOf(row, "who")} value={percent(part, all)} name={words.report.by(textOf(row, "who"))} change={note} exact={count(part)} />;
        })}
      </div>
      {show !== "lists" && (
        <div className="mt-3 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,1fr)_28rem]">
          <section aria-label={title}>
            <Columns
              title={title}
              height={250}
              parts={[{ name: what, colour: "var(--sea)" }]}
              show={count}
              columns={drawn.columns}
              nothing={words.people.none}
              choose={(first, last) => change({ period: periodOf(drawn.stretch(first, last)) })}
            />
            <p className="mt-1 text-sm text-quiet">{words.people.ofVisitors}</p>
          </section>
          <div className="space-y-4">
            {SHARED.map((name) => {
              const table = survey.tables[name];
              return table && <Shares key={name} table={table} measure="requests" narrow={narrow} />;
            })}
          </div>
        </div>
      )}
    </>
  );
}
