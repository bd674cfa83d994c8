/** Configurations that were in force: what each changed, compared with what is in force now, and brought back. */
import { useState } from "react";
import type { Revision } from "../../../api/client";
import { useChange, useConfiguration, useRevisionFiles, useRevisions } from "../../../api/queries";
import { count, moment } from "../../../figures";
import { styles } from "../../../parts/styles";
import { QueryView } from "../../../parts/states";
import { words } from "../../../words";
import { Diagnostics } from "../../../parts/diagnostics";
import { Difference } from "./editor";

const said = words.configuration;

export default function RevisionsView({ zone }: { zone: string }) {
  const revisions = useRevisions();
  return (
    <QueryView query={revisions}>
      {(all) => (
        <Revisions
          revisions={all.pages.flat()}
          zone={zone}
          {...(revisions.hasNextPage && { more: () => void revisions.fetchNextPage() })}
        />
      )}
    </QueryView>
  );
}

function Revisions({ revisions, zone, more }: { revisions: Revision[]; zone: string; more?: () => void }) {
  const [open, setOpen] = useState<number>();
  const [asked, setAsked] = useState<number>();
  const change = useChange();
  return (
    <section aria-label={said.revisions}>
      <h1 className="text-2xl font-semibold">{said.revisions}</h1>
      {change.data && (
        <div role="status" className={`mt-3 border-l-4 pl-3 ${change.data.in_force ? "border-well" : "border-trouble"}`} data-testid="outcome">
          <p className="font-semibold">{change.data.in_force ? said.published(change.data.revision ?? 0) : said.refused}</p>
          {change.data.reason && <p className="break-words">{change.data.reason}</p>}
          {!change.data.in_force && <Diagnostics findings={change.data.found} />}
        </div>
      )}
      {change.isError && (
        <p role="alert" className="mt-3 border-l-4 border-trouble pl-3">
          {change.error.message}
        </p>
      )}
      <table className="mt-3 w-full max-w-4xl">
        <thead>
          <tr className="border-b border-line text-left text-sm text-quiet">
            <th scope="col" className="py-1 font-normal">
              {said.revision}
            </th>
            <th scope="col" className="py-1 font-normal">
              {said.came}
            </th>
            <th scope="col" className="py-1 text-right font-normal">
              {said.lines}
            </th>
            <td />
          </tr>
        </thead>
        <tbody>
          {revisions.map((revision) => (
            <tr key={revision.number} className="border-b border-line" data-testid={`revision-${revision.number}`}>
              <td className="py-1">
                {revision.number}
                {revision.in_force && <span className="ml-3 text-sm font-semibold text-well">{said.inForce}</span>}
              </td>
              <td className="py-1">{moment(Date.parse(revision.made), zone)}</td>
              <td className="py-1 text-right">
                <span className="text-well">+{count(revision.added)}</span> <span className="text-clay">−{count(revision.removed)}</span>
              </td>
              <td className="py-1 text-right">
                <button
                  type="button"
                  className={`${styles.quiet} mr-4`}
                  aria-expanded={open === revision.number}
                  onClick={() => setOpen(open === revision.number ? undefined : revision.number)}
                >
                  {said.show}
                </button>
                {!revision.in_force &&
                  (asked === revision.number ? (
                    <span className="inline-flex flex-wrap items-center gap-3">
                      {said.backSure(revision.number)}
                      <button
                        type="button"
                        className={styles.strong}
                        disabled={change.isPending}
                        onClick={() => {
                          setAsked(undefined);
                          change.mutate({ revision: revision.number });
                        }}
                      >
                        {said.yes}
                      </button>
                      <button type="button" className={styles.button} onClick={() => setAsked(undefined)}>
                        {said.no}
                      </button>
                    </span>
                  ) : (
                    <button type="button" className="text-sea hover:underline" onClick={() => setAsked(revision.number)}>
                      {said.back}
                    </button>
                  ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {more && (
        <button type="button" className={`${styles.button} mt-3`} onClick={more}>
          {said.earlier}
        </button>
      )}
      {open !== undefined && <Compared number={open} />}
    </section>
  );
}

/** The files of a revision beside those in force. */
function Compared({ number }: { number: number }) {
  const then = useRevisionFiles(number);
  const now = useConfiguration();
  return (
    <QueryView query={then}>
      {({ files }) => (
        <div className="mt-6 space-y-4">
          {files.map((file) => (
            <div key={file.name}>
              <h2 className="font-mono text-sm break-all text-quiet">{file.name}</h2>
              <Difference before={file.text} after={now.data?.files.find((one) => one.name === file.name)?.in_force ?? ""} />
            </div>
          ))}
        </div>
      )}
    </QueryView>
  );
}
