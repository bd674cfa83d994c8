/** Reports that are made by themselves: when next, and those that were made. */
import type { ReportRun, ScheduledReport } from "../../api/client";
import { useReportRuns, useRunReport, useScheduledReports } from "../../api/queries";
import { bytes, moment } from "../../figures";
import { styles } from "../../parts/styles";
import { Wide } from "../../parts/wide";
import { words } from "../../words";

const said = words.schedules;

export function Schedules({ zone, mayChange }: { zone: string; mayChange: boolean }) {
  const reports = useScheduledReports();
  const runs = useReportRuns();
  if (!reports.data || !runs.data || (reports.data.length === 0 && runs.data.length === 0)) return null;
  return (
    <section aria-label={said.title} className="mt-10" data-testid="schedules">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.title}</h2>
      <ul>
        {reports.data.map((report) => (
          <Scheduled key={report.name} report={report} zone={zone} mayChange={mayChange} />
        ))}
      </ul>
      {runs.data.length > 0 && <Runs runs={runs.data} zone={zone} />}
    </section>
  );
}

function Scheduled({ report, zone, mayChange }: { report: ScheduledReport; zone: string; mayChange: boolean }) {
  const run = useRunReport(report.name);
  return (
    <li className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line py-2" data-testid={`report-${report.name}`}>
      <span className="font-semibold">{report.name}</span>
      <span className="text-sm text-quiet">
        {report.every} · {report.of}
        {report.scope.length > 0 && <span className="font-mono"> · {report.scope.join(" ")}</span>}
        {report.masked && ` · ${said.masked}`}
        {report.tell.length > 0 && ` · ${said.sentTo(report.tell.join(", "))}`}
      </span>
      {report.next && <span className="text-sm">{said.next(moment(Date.parse(report.next), zone))}</span>}
      {mayChange && (
        <span className="ml-auto flex items-baseline gap-3">
          {run.isError && <span className="text-sm text-trouble">{run.error.message}</span>}
          <button type="button" className={styles.button} disabled={run.isPending} onClick={() => run.mutate()}>
            {run.isPending ? said.making : said.make}
          </button>
        </span>
      )}
    </li>
  );
}

function Runs({ runs, zone }: { runs: ReportRun[]; zone: string }) {
  return (
    <Wide name={said.runs}>
      <table className="mt-4 w-full min-w-[44rem]">
        <caption className="pb-1 text-left text-sm text-quiet">{said.runs}</caption>
        <thead>
          <tr className="border-b border-line text-left text-sm text-quiet">
            {said.columns.map((title) => (
              <th key={title} scope="col" className="py-1 pr-4 font-normal">
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {runs.map((run) => (
            <tr key={run.number} className="border-b border-line align-top">
              <td className="py-1 pr-4 text-sm whitespace-nowrap text-quiet">{moment(Date.parse(run.made), zone)}</td>
              <td className="py-1 pr-4">
                {run.failure ? (
                  <span className="text-trouble">
                    {run.report}: {run.failure}
                  </span>
                ) : (
                  <details>
                    <summary className="cursor-pointer">{run.summary.split("\n", 1)[0]}</summary>
                    <pre className="mt-1 overflow-x-auto text-sm whitespace-pre-wrap">{run.summary.split("\n").slice(2).join("\n")}</pre>
                  </details>
                )}
              </td>
              <td className="py-1 text-right text-sm whitespace-nowrap">
                {run.is_kept ? (
                  <a className="text-sea underline" href={`/api/v1/report-runs/${run.number}/file`} download>
                    {said.download(bytes(run.octets))}
                  </a>
                ) : (
                  !run.failure && <span className="text-quiet">{said.gone}</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}
