/** Changes that were published: why, how they went, and what became of each, against what its rehearsal promised. */
import { useState } from "react";
import { useChange, useEffectOf, usePublications } from "../../api/queries";
import type { Publication } from "../../api/client";
import { moment } from "../../figures";
import { QueryView } from "../../parts/states";
import { styles } from "../../parts/styles";
import { TableList } from "../../tables/list";
import { useNarrowing } from "../../scope";
import { words } from "../../words";

const said = words.published;
const TONE: Record<string, string> = { well: "text-well", failing: "text-trouble", "taken back": "text-trouble" };

export default function PublishedView({ zone }: { zone: string }) {
  const publications = usePublications();
  return (
    <section aria-label={said.title}>
      <h1 className="text-2xl font-semibold">{said.title}</h1>
      <QueryView query={publications}>{(all) => <All all={all} zone={zone} />}</QueryView>
    </section>
  );
}

function All({ all, zone }: { all: Publication[]; zone: string }) {
  const [open, setOpen] = useState(all[0]?.revision);
  if (all.length === 0) return <p className="mt-3 text-quiet">{said.none}</p>;
  return (
    <ol className="mt-3">
      {all.map((publication) => (
        <li key={publication.revision} className="border-b border-line py-3" data-testid={`publication-${publication.revision}`}>
          <Line publication={publication} zone={zone} isOpen={open === publication.revision} toggle={() => setOpen(open === publication.revision ? undefined : publication.revision)} />
          {open === publication.revision && <EffectOf revision={publication.revision} zone={zone} />}
        </li>
      ))}
    </ol>
  );
}

function Line({ publication, zone, isOpen, toggle }: { publication: Publication; zone: string; isOpen: boolean; toggle: () => void }) {
  const back = useChange();
  return (
    <div className="flex flex-wrap items-start gap-x-6 gap-y-1">
      <div className="min-w-0 grow">
        <p className="font-semibold break-words">
          {publication.reason || said.noReason}
          <span className={`ml-3 font-normal ${TONE[publication.state] ?? "text-attention-text"}`}>{said.states[publication.state] ?? publication.state}</span>
        </p>
        <p className="text-sm text-quiet">
          {words.configuration.revision} {publication.revision} · {moment(Date.parse(publication.made), zone)} · {publication.made_by}
          {publication.in_force && ` · ${words.configuration.inForce}`}
        </p>
        {publication.promised && <p className="text-sm text-quiet">{said.promised(publication.promised)}</p>}
        {publication.said && <p className="break-words">{publication.said}</p>}
        {back.isError && (
          <p role="alert" className="text-trouble">
            {back.error.message}
          </p>
        )}
      </div>
      <div className="flex gap-3">
        <button type="button" className={styles.button} aria-expanded={isOpen} onClick={toggle}>
          {said.effect}
        </button>
        {publication.in_force && (
          <button type="button" className={styles.button} disabled={back.isPending} onClick={() => back.mutate({ revision: publication.before })}>
            {said.takeBack}
          </button>
        )}
      </div>
    </div>
  );
}

function EffectOf({ revision, zone }: { revision: number; zone: string }) {
  const effect = useEffectOf(revision);
  const { narrow, trail } = useNarrowing();
  return (
    <QueryView query={effect}>
      {({ promised, table }) =>
        promised ? (
          table.rows.length > 0 ? (
            <TableList table={table} zone={zone} narrow={narrow} trail={trail} />
          ) : (
            <p className="mt-2 text-quiet">{words.rehearsal.same}</p>
          )
        ) : (
          <p className="mt-2 text-quiet">{said.unknown}</p>
        )
      }
    </QueryView>
  );
}
