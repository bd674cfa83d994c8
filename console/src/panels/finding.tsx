/**
 * A finding, or several together: evidence, remedy, and then step by step check, rehearsal and publishing, each step's result before the
 * next is offered.
 */
import { useEffect, useState } from "react";
import { useChange, useFindings, useMe, usePublications, useRehearse, useRemedies, useSetAside } from "../api/queries";
import type { Finding, Remedies } from "../api/client";
import { DifferenceLines } from "../parts/difference";
import { RehearsedView } from "../parts/rehearsed";
import { QueryView } from "../parts/states";
import { styles } from "../parts/styles";
import { useNarrowing, useScope } from "../scope";
import { TableList } from "../tables/list";
import { words } from "../words";
import { Panel } from "./panel";

const said = words.findings;
const published = words.published;

export default function FindingPanel({ zone }: { zone: string }) {
  const [scope, change] = useScope();
  const ids = scope.finding.split(",").filter(Boolean);
  const findings = useFindings(scope.sites, 0);
  // What was found when it was opened stays, also when its remedy has been published and it is none any more.
  const [kept, setKept] = useState<Finding[]>([]);
  const known = findings.data?.findings;
  useEffect(() => {
    setKept((kept) => {
      const wanted = scope.finding.split(",").filter(Boolean);
      const found = wanted.map((id) => kept.find((one) => one.id === id) ?? known?.find((one) => one.id === id));
      return found.filter((one) => one !== undefined);
    });
  }, [known, scope.finding]);
  const title = kept.length > 1 ? said.several(kept.length) : (kept[0]?.title ?? said.title);
  return (
    <Panel title={title} isWide close={() => change({ finding: "" })}>
      <QueryView query={findings}>
        {() =>
          kept.length === 0 ? (
            <p className="mt-3 text-quiet">{said.gone}</p>
          ) : (
            <>
              {kept.map((finding) => (
                <Told key={finding.id} finding={finding} hasTitle={kept.length > 1} />
              ))}
              <Acting key={ids.join()} findings={kept} sites={scope.sites} />
              {kept.map((finding) => (
                <Evidence key={finding.id} finding={finding} zone={zone} />
              ))}
            </>
          )
        }
      </QueryView>
    </Panel>
  );
}

function Told({ finding, hasTitle }: { finding: Finding; hasTitle: boolean }) {
  return (
    <section className="mt-3" aria-label={finding.title}>
      {hasTitle && <h3 className="font-semibold break-words">{finding.title}</h3>}
      <p className="text-lg break-words">
        {finding.cost}
        <span className="text-base text-quiet">
          {" "}
          · {finding.site} · {said.sure[finding.sureness]}
        </span>
      </p>
      <ul className="mt-1 list-disc pl-5 break-words">
        {finding.reasons.map((reason) => (
          <li key={reason}>{reason}</li>
        ))}
      </ul>
      {finding.advice && <p className="mt-2 break-words">{finding.advice}</p>}
    </section>
  );
}

function Evidence({ finding, zone }: { finding: Finding; zone: string }) {
  const { narrow, trail } = useNarrowing();
  return (
    <section aria-label={said.evidence}>
      <TableList table={finding.evidence} zone={zone} narrow={narrow} trail={trail} />
      <p className="mt-2 text-sm text-quiet">
        {said.command}: <code className="break-all">{finding.command}</code>
      </p>
    </section>
  );
}

/** What can be done about them: only for operators. */
function Acting({ findings, sites }: { findings: Finding[]; sites: string[] }) {
  const me = useMe();
  const isOperator = me.data?.role === "operator" && !me.data.sites;
  const withRemedy = findings.filter((finding) => finding.remedy).map((finding) => finding.id);
  // Once it is published there is no such finding: what was written stays.
  const [isDone, setDone] = useState(false);
  const remedies = useRemedies(sites, withRemedy, isOperator && !isDone);
  if (!isOperator) return null;
  return (
    <>
      {withRemedy.length > 0 && <QueryView query={remedies}>{(remedies) => <Steps remedies={remedies} done={() => setDone(true)} reason={findings.map((finding) => finding.title).join("; ")} />}</QueryView>}
      {findings.length === 1 && findings[0] && !isDone && <Aside finding={findings[0]} />}
    </>
  );
}

function Steps({ remedies, reason, done }: { remedies: Remedies; reason: string; done: () => void }) {
  const rehearsal = useRehearse();
  const change = useChange();
  const [why, setWhy] = useState(reason);
  const files = remedies.files.map(({ name, text, version }) => ({ name, text, version }));
  const result = change.data;
  return (
    <section className="mt-5" aria-label={said.remedy}>
      <h3 className="border-b border-line pb-1 text-lg font-semibold">{said.remedy}</h3>
      {remedies.words.map((words) => (
        <p key={words} className="mt-1">
          {words}
        </p>
      ))}
      {remedies.files.map((file) => (
        <DifferenceLines key={file.name} name={file.name} lines={file.difference} />
      ))}
      {!rehearsal.data && (
        <button type="button" className={`${styles.strong} mt-3`} disabled={rehearsal.isPending} onClick={() => rehearsal.mutate(files)}>
          {rehearsal.isPending ? said.rehearsing : said.rehearse}
        </button>
      )}
      {rehearsal.isError && (
        <p role="alert" className="mt-3 border-l-4 border-trouble pl-3">
          {rehearsal.error.message}
        </p>
      )}
      {rehearsal.data && (
        <>
          <h3 className="mt-5 border-b border-line pb-1 text-lg font-semibold">{words.rehearsal.title}</h3>
          <RehearsedView rehearsed={rehearsal.data} />
          {rehearsal.data.is_sound && !result?.in_force && (
            <form
              className="mt-4 flex flex-wrap items-end gap-3"
              onSubmit={(event) => {
                event.preventDefault();
                done();
                change.mutate({ files, reason: why });
              }}
            >
              <label className="min-w-0 grow">
                <span className="text-sm text-quiet">{published.reason}</span>
                <input className={`${styles.field} block w-full`} value={why} onChange={(event) => setWhy(event.target.value)} />
              </label>
              <button type="submit" className={styles.strong} disabled={change.isPending}>
                {rehearsal.data.is_worse ? published.anyway : published.publish}
              </button>
            </form>
          )}
        </>
      )}
      {change.isError && (
        <p role="alert" className="mt-3 border-l-4 border-trouble pl-3">
          {change.error.message}
        </p>
      )}
      {result && !result.in_force && (
        <p role="alert" className="mt-3 border-l-4 border-trouble pl-3 break-words">
          {words.configuration.refused} {result.reason}
        </p>
      )}
      {result?.in_force && <InForce revision={result.revision ?? 0} />}
    </section>
  );
}

/** What was published, while it is watched; and the way back. */
function InForce({ revision }: { revision: number }) {
  const publications = usePublications();
  const back = useChange();
  const publication = publications.data?.find((one) => one.revision === revision);
  const state = publication?.state ?? "watched";
  return (
    <div role="status" className={`mt-4 border-l-4 pl-3 ${state === "failing" ? "border-trouble" : "border-well"}`} data-testid="published">
      <p className="font-semibold">{words.configuration.published(revision)}</p>
      <p>{publication?.said || published.watched}</p>
      {back.data?.in_force ? (
        <p className="font-semibold">{published.takenBack(back.data.revision ?? 0)}</p>
      ) : (
        publication && (
          <button type="button" className={`${styles.button} mt-2`} disabled={back.isPending} onClick={() => back.mutate({ revision: publication.before })}>
            {published.takeBack}
          </button>
        )
      )}
    </div>
  );
}

function Aside({ finding }: { finding: Finding }) {
  const [, change] = useScope();
  const aside = useSetAside();
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("doubled");
  return (
    <details className="mt-6">
      <summary className="cursor-pointer text-sea">{said.aside}</summary>
      <form
        className="mt-2 flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          const end = until === "doubled" ? { untilDoubled: true } : until ? { time: until } : {};
          aside.mutate({ finding, reason, ...end }, { onSuccess: () => change({ finding: "" }) });
        }}
      >
        <label className="min-w-0 grow">
          <span className="text-sm text-quiet">{said.asideReason}</span>
          <input className={`${styles.field} block w-full`} required value={reason} onChange={(event) => setReason(event.target.value)} />
        </label>
        <label>
          <span className="text-sm text-quiet">{said.asideUntil}</span>
          <select className={`${styles.field} block`} value={until} onChange={(event) => setUntil(event.target.value)}>
            {Object.entries(said.asideUntils).map(([value, name]) => (
              <option key={value} value={value}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <button type="submit" className={styles.button} disabled={aside.isPending}>
          {said.aside}
        </button>
        {aside.isError && (
          <p role="alert" className="w-full text-trouble">
            {aside.error.message}
          </p>
        )}
      </form>
    </details>
  );
}
