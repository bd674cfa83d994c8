/** What does it cost? */
import type { MonthTransfer, Survey } from "../../api/client";
import { useAllowances, useSurvey } from "../../api/queries";
import { AllowanceArc } from "../../charts/allowance-arc";
import { Columns } from "../../charts/columns";
import { MonthChart } from "../../charts/month-chart";
import { bytes, count, dayName } from "../../figures";
import { Figure } from "../../parts/figure";
import { FindingsList } from "../../parts/findings";
import { QueryView, Loading } from "../../parts/states";
import { usePreferences } from "../../preferences";
import { useScope } from "../../scope";
import { ChangeNote } from "../../tables/change";
import { changeOf, figure } from "../../tables/table";
import { words } from "../../words";
import type { PageProps } from "../props";
import { overTime, periodOf } from "../pictures";
import { Question } from "../question";

const said = words.transfer;

export default function TransferPage({ zone }: PageProps) {
  const [scope] = useScope();
  const { show } = usePreferences();
  // What the lists of traffic rank by requests is ranked by bytes here.
  const survey = useSurvey(scope, zone, { show: ["transfer", "totals", "days", "sites", "paths", "kinds", "clients"], by: "bytes", inTime: true });
  // Both are there at once, so that nothing moves down when the second comes.
  const allowances = useAllowances(scope.sites);
  if (allowances.isPending && !survey.isError) return <Loading />;
  return (
    <>
      <QueryView query={survey}>{(survey) => <Picture survey={survey} zone={zone} />}</QueryView>
      {show !== "lists" && <Months />}
      <FindingsList page="transfer" />
      {survey.data && (
        <>
          <Question survey={survey.data} name="transfer" zone={zone} drawn={[]} />
          <Question survey={{ ...survey.data, caveats: [] }} name="traffic" zone={zone} drawn={["totals", "days", "hours", "timeline"]} />
          <Question survey={{ ...survey.data, caveats: [] }} name="people" zone={zone} drawn={[]} />
        </>
      )}
    </>
  );
}

function Picture({ survey, zone }: { survey: Survey; zone: string }) {
  const [scope, change] = useScope();
  const { show } = usePreferences();
  const { totals, encodings } = survey.tables;
  if (!totals) return null;
  const sent = figure(totals.rows[0], "bytes");
  const saved = (encodings?.rows ?? []).reduce((sum, row) => sum + figure(row, "saved"), 0);
  const { columns, stretch } = overTime(survey, scope, zone, ["bytes"]);
  return (
    <>
      <div className="mt-2 flex flex-wrap items-end gap-x-10 gap-y-3">
        <Figure
          value={totals.rows[0]?.bytes === null ? words.list.unknown : bytes(sent)}
          name={words.report.sent}
          change={<ChangeNote change={changeOf(totals, 0, "bytes")} />}
          exact={words.sites.bytes(count(sent))}
          isMain
          id="total-bytes"
        />
        {saved > 0 && <Figure value={bytes(saved)} name={said.saved} exact={words.sites.bytes(count(saved))} />}
      </div>
      {show !== "lists" && (
        <section aria-label={said.byDay} className="mt-2">
          <Columns
            title={said.byDay}
            height={190}
            parts={[{ name: said.title, colour: "var(--sea)" }]}
            show={bytes}
            columns={columns}
            nothing={said.none}
            choose={(first, last) => change({ period: periodOf(stretch(first, last)) })}
          />
        </section>
      )}
    </>
  );
}

/** The month that goes on, of all sites that are looked at, and of each that has an allowance. */
function Months() {
  const [scope] = useScope();
  const allowances = useAllowances(scope.sites);
  return (
    <section aria-label={said.month} className="mt-8" data-testid="months">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.month}</h2>
      <QueryView query={allowances}>
        {({ of }) => {
          const shown = of.filter((month, place) => month.allowance != null || (place === 0 && of.length === 1));
          return (
            <div className="mt-3 space-y-8">
              {shown.map((month) => (
                <Month key={month.site ?? ""} month={month} />
              ))}
            </div>
          );
        }}
      </QueryView>
    </section>
  );
}

function Month({ month }: { month: MonthTransfer }) {
  const { allowance, forecast, sent } = month;
  return (
    <div className="grid items-start gap-x-12 gap-y-4 lg:grid-cols-[22rem_minmax(0,1fr)]" data-testid={`month-${month.site ?? "all"}`}>
      <div>
        <h3 className="font-semibold">{month.site ?? said.together}</h3>
        {allowance != null ? (
          <AllowanceArc sent={sent} allowance={allowance} expected={forecast?.expected} least={forecast?.least} most={forecast?.most} />
        ) : (
          <Figure value={bytes(sent)} name={said.sentSoFar} />
        )}
        <p className="mt-2">
          {forecast ? said.forecast(bytes(forecast.expected), bytes(forecast.least), bytes(forecast.most)) : said.fewDays}
          {forecast && allowance != null && (
            <span className={forecast.runs_out ? "font-semibold text-attention-text" : ""}>
              {" "}
              {forecast.runs_out
                ? said.runsOut(
                    dayName(forecast.runs_out),
                    forecast.earliest && forecast.earliest !== forecast.runs_out ? dayName(forecast.earliest) : undefined,
                  )
                : forecast.earliest
                  ? said.mayRunOut(dayName(forecast.earliest))
                  : said.lasts}
            </span>
          )}
        </p>
        {forecast && <p className="text-sm text-quiet">{said.from(count(forecast.from_days))}</p>}
        {allowance == null && <p className="mt-1 text-sm text-quiet">{said.noAllowance}</p>}
      </div>
      <MonthChart table={month.days} allowance={allowance} height={240} />
    </div>
  );
}
