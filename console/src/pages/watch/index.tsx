/** Where do the records come from, and are they complete? */
import { useMe, useJobs, useSources, useStatus } from "../../api/queries";
import type { Source } from "../../api/client";
import { bytes, count, dayName, moment } from "../../figures";
import { QueryView } from "../../parts/states";
import { Wide } from "../../parts/wide";
import { useScope } from "../../scope";
import { dateOf } from "../../scope/dates";
import { words } from "../../words";
import { Alerts } from "./alerts";
import { Messages } from "./messages";
import { Schedules } from "./schedules";
import type { PageProps } from "../props";

const said = words.watch;

export default function WatchPage({ zone }: PageProps) {
  const [scope] = useScope();
  const sources = useSources(scope.sites);
  return <QueryView query={sources}>{(sources) => <View sources={sources} zone={zone} />}</QueryView>;
}

function View({ sources, zone }: { sources: Source[]; zone: string }) {
  const status = useStatus();
  const me = useMe();
  const records = status.data?.records;
  const mayChange = me.data?.role === "operator" && !me.data.sites;
  const lag = sources.reduce((sum, source) => sum + source.lag, 0);
  const unread = sources.reduce((sum, source) => sum + source.unread, 0);
  return (
    <>
      <h1 className={`text-4xl font-semibold ${lag > 0 ? "text-attention-text" : "text-well"}`} data-testid="completeness">
        {lag > 0 ? said.behind(bytes(lag)) : said.complete}
      </h1>
      <p className="mt-1 text-quiet">
        {records?.first ? said.records(count(records.requests), dayName(dateOf(Date.parse(records.first), zone), true)) : said.noRecords}
        {unread > 0 && <span className="text-attention-text"> · {said.unread(count(unread))}</span>}
      </p>
      {me.data && !me.data.sites && <Alerts zone={zone} mayChange={mayChange} />}
      {me.data && !me.data.sites && <Schedules zone={zone} mayChange={mayChange} />}
      {mayChange && <Messages zone={zone} />}
      <section aria-label={said.title} className="mt-8">
        <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.title}</h2>
        {sources.length === 0 ? <p className="py-3 text-quiet">{said.none}</p> : <Sources sources={sources} />}
      </section>
      <Jobs zone={zone} />
    </>
  );
}

function Sources({ sources }: { sources: Source[] }) {
  const most = Math.max(1, ...sources.map((source) => source.requests));
  const { columns } = said;
  const figures = ["requests", "octets", "lag", "unread"];
  return (
    <Wide name={said.title}>
      <table className="w-full min-w-[52rem]" data-testid="sources">
        <thead>
          <tr className="text-sm text-quiet">
            {Object.entries(columns).map(([name, title]) => (
              <th key={name} scope="col" className={`py-1 pr-6 font-normal ${figures.includes(name) ? "text-right" : "text-left"}`}>
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sources.map((source) => (
            <tr key={source.name} className="border-b border-line align-top">
              <td className="py-1 pr-6">
                <span className="font-mono text-sm break-all">{source.name}</span>
                <span
                  aria-hidden="true"
                  className="mt-0.5 block h-[3px] rounded-full bg-sea opacity-60"
                  style={{ width: `${Math.max(0.4, (100 * source.requests) / most)}%` }}
                />
              </td>
              <td className="py-1 pr-6">{source.site}</td>
              <td className="py-1 pr-6 text-quiet">{said.kinds[source.kind]}</td>
              <td className="py-1 pr-6 text-right">{count(source.requests)}</td>
              <td className="py-1 pr-6 text-right whitespace-nowrap" title={words.sites.bytes(count(source.octets))}>
                {bytes(source.octets)}
              </td>
              <td className={`py-1 pr-6 text-right whitespace-nowrap ${source.lag > 0 ? "font-semibold text-attention-text" : "text-quiet"}`}>
                {bytes(source.lag)}
              </td>
              <td className={`py-1 pr-6 text-right ${source.unread > 0 ? "font-semibold text-attention-text" : "text-quiet"}`}>{count(source.unread)}</td>
              <td className={`py-1 ${source.incomplete ? "text-trouble" : "text-quiet"}`}>
                {source.incomplete ? said.damaged : source.lag > 0 ? said.reading : source.is_written ? said.written : said.whole}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

/** What goes on in the background, for those who may know. */
function Jobs({ zone }: { zone: string }) {
  const me = useMe();
  const jobs = useJobs(me.data?.role === "operator" && !me.data.sites);
  if (!jobs.data || jobs.data.length === 0) return null;
  return (
    <section aria-label={said.jobs} className="mt-10">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.jobs}</h2>
      <ul className="lg:columns-2 lg:gap-x-12">
        {jobs.data.map((job) => (
          <li key={job.name} className="flex flex-wrap items-baseline gap-x-3 border-b border-line py-1">
            <span>{job.name}</span>
            {job.doing && <span className="text-sm">{job.doing}</span>}
            <span className="ml-auto text-sm text-quiet">
              {said.since} {moment(Date.parse(job.since), zone)}
            </span>
            {job.failures > 0 && (
              <span className="w-full text-sm text-trouble">
                {said.failures(job.failures)}
                {job.last_failure && `: ${job.last_failure}`}
              </span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
