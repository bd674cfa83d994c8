/** What fails, for whom, why, since when? */
import type { Survey } from "../../api/client";
import { useErrors, useSurvey } from "../../api/queries";
import { Columns } from "../../charts/columns";
import { count, percent } from "../../figures";
import { Figure } from "../../parts/figure";
import { FindingsList } from "../../parts/findings";
import { QueryView, Loading } from "../../parts/states";
import { usePreferences } from "../../preferences";
import { useNarrowing, useScope } from "../../scope";
import { ShareNote } from "../../tables/change";
import { TableList } from "../../tables/list";
import { figure } from "../../tables/table";
import { words } from "../../words";
import type { PageProps } from "../props";
import { overTime } from "../pictures";
import { Question } from "../question";
import { Bursts } from "./bursts";

export default function TroublePage({ zone }: PageProps) {
  const [scope] = useScope();
  const survey = useSurvey(scope, zone, { show: ["trouble", "totals", "days"], inTime: true });
  // Both are there at once, so that nothing moves down when the second comes.
  const errors = useErrors(scope, zone);
  if (errors.isPending && !survey.isError) return <Loading />;
  return (
    <QueryView query={survey}>
      {(survey) => (
        <>
          <Picture survey={survey} zone={zone} />
          <FindingsList page="trouble" />
          <Causes zone={zone} />
          <Question survey={survey} name="trouble" zone={zone} drawn={["classes"]} />
        </>
      )}
    </QueryView>
  );
}

function Picture({ survey, zone }: { survey: Survey; zone: string }) {
  const [scope, change] = useScope();
  const { show } = usePreferences();
  const { totals, classes } = survey.tables;
  if (!totals) return null;
  const [errors, all] = [figure(totals.rows[0], "errors"), figure(totals.rows[0], "requests")];
  const before = totals.before?.[0];
  const ofClass = (name: string) =>
    figure(
      classes?.rows.find((row) => row.class === name),
      "requests",
    );
  const { columns, stretch } = overTime(survey, scope, zone, ["5xx", "4xx"]);
  return (
    <>
      <div className="mt-2 flex flex-wrap items-end gap-x-10 gap-y-3">
        <Figure
          value={count(errors)}
          name={`${words.trouble.errors}, ${words.trouble.share(percent(errors, all))}`}
          change={<ShareNote part={errors} all={all} partBefore={before?.errors} allBefore={before?.requests} />}
          isMain
          id="total-errors"
        />
        <Figure value={count(ofClass("5xx"))} name={words.trouble.failed} id="total-5xx" />
        <Figure value={count(ofClass("4xx"))} name={words.trouble.missing} id="total-4xx" />
      </div>
      {show !== "lists" && (
        <div className="mt-3 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,1fr)_28rem]">
          <section aria-label={words.trouble.title}>
            <Columns
              title={words.trouble.title}
              height={250}
              parts={[
                { name: words.trouble.failed, colour: "var(--trouble)" },
                { name: words.trouble.missing, colour: "var(--attention)" },
              ]}
              show={count}
              columns={columns}
              nothing={words.trouble.none}
              choose={(first, last) => {
                const { from, until } = stretch(first, last);
                change({ prelude: `${from}..${until}`, trail: "" });
              }}
            />
            <p className="mt-1 text-sm text-quiet">{words.trouble.pick}</p>
          </section>
          <Bursts zone={zone} hasFailed={ofClass("5xx") > 0} />
        </div>
      )}
    </>
  );
}

/** What the log of errors says of the same requests. */
function Causes({ zone }: PageProps) {
  const [scope] = useScope();
  const { show } = usePreferences();
  const errors = useErrors(scope, zone);
  const { narrow, trail } = useNarrowing();
  if (show === "pictures") return null;
  return (
    <QueryView query={errors}>
      {({ table, looked_at }) =>
        looked_at === 0 ? (
          <section className="mt-10" aria-label={table.title}>
            <h2 className="border-b border-line pb-1 text-lg font-semibold">{table.title}</h2>
            <p className="pt-1 text-sm text-quiet">{words.trouble.causesAbout(0)}</p>
          </section>
        ) : (
          <TableList table={{ ...table, about: words.trouble.causesAbout(looked_at) }} zone={zone} narrow={narrow} trail={trail} />
        )
      }
    </QueryView>
  );
}
