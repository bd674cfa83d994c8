/** What deserves attention, as a list: each opens to its evidence, its remedy and its rehearsal; several can be opened together. */
import { useState } from "react";
import { useFindings } from "../api/queries";
import type { Finding } from "../api/client";
import { count } from "../figures";
import { addressOf, follow, useScope } from "../scope";
import { words } from "../words";
import { Failing } from "./states";
import { styles } from "./styles";

const said = words.findings;

/** How many are shown before somebody asks for more, where they stand among other things. */
const FIRST = 3;

/** All of them, or those that belong to a page. */
export function FindingsList({ page }: { page?: Finding["page"] }) {
  const [scope, change] = useScope();
  const [chosen, setChosen] = useState<string[]>([]);
  const [isAll, setAll] = useState(false);
  const [isLong, setLong] = useState(false);
  const findings = useFindings(scope.sites, isAll ? 0 : 10);
  if (findings.isError && !findings.data) return <Failing error={findings.error} again={() => void findings.refetch()} />;
  if (!findings.data) return <p className="mt-6 text-quiet">{words.now.looking}</p>;
  const { below, set_aside, requests } = findings.data;
  const found = findings.data.findings.filter((finding) => !page || finding.page === page);
  const shown = page || isLong || isAll ? found : found.slice(0, FIRST);
  if (page && shown.length === 0) return null;
  const choose = (id: string, isChosen: boolean) => setChosen((ids) => (isChosen ? [...ids, id] : ids.filter((other) => other !== id)));
  const open = chosen.filter((id) => shown.some((finding) => finding.id === id));
  const aside = set_aside.filter((one) => one.is_found).length;
  return (
    <section className="mt-8" aria-label={said.title} data-testid="findings">
      <h2 className="flex flex-wrap items-baseline gap-4 border-b border-line pb-1 text-lg font-semibold">
        {said.title}
        {open.length > 1 && (
          <button type="button" className={`${styles.button} ml-auto text-base font-normal`} onClick={() => change({ finding: open.join(",") })}>
            {said.together(open.length)}
          </button>
        )}
      </h2>
      <p className="pt-1 text-sm text-quiet">{said.about(count(requests))}</p>
      {shown.length === 0 && <p className="mt-2 text-well">{said.none}</p>}
      <ol className="mt-2">
        {shown.map((finding) => (
          <Line key={finding.id} finding={finding} isChosen={chosen.includes(finding.id)} choose={(isChosen) => choose(finding.id, isChosen)} />
        ))}
      </ol>
      {found.length > shown.length && (
        <button type="button" className={`${styles.button} mt-3`} onClick={() => setLong(true)}>
          {said.more(found.length - shown.length)}
        </button>
      )}
      {!page && found.length === shown.length && (
        <p className="mt-2 text-sm text-quiet">
          {below > 0 && (
            <>
              {said.below(below)}{" "}
              <button type="button" className="text-sea hover:underline" onClick={() => setAll(true)}>
                {said.showBelow}
              </button>{" "}
            </>
          )}
          {aside > 0 && said.asideOf(aside)}
        </p>
      )}
    </section>
  );
}

function Line({ finding, isChosen, choose }: { finding: Finding; isChosen: boolean; choose: (isChosen: boolean) => void }) {
  const [scope] = useScope();
  const there = { ...scope, finding: finding.id, trail: "", prelude: "" };
  return (
    <li className="flex items-start gap-3 border-b border-line py-2">
      {finding.remedy ? (
        <input
          type="checkbox"
          className="mt-1.5 h-4 w-4 shrink-0 accent-(--sea)"
          aria-label={said.choose(finding.title)}
          checked={isChosen}
          onChange={(event) => choose(event.target.checked)}
        />
      ) : (
        <span className="w-4 shrink-0" />
      )}
      <div className="min-w-0">
        <a href={addressOf(there)} onClick={follow(there)} className="font-semibold break-words hover:text-sea hover:underline">
          {finding.title}
        </a>
        <p className="break-words text-quiet">
          {finding.cost} · {finding.site}
          {finding.sureness !== "certain" && ` · ${said.sure[finding.sureness] ?? ""}`}
        </p>
        {finding.remedy && (
          <p className="text-sm break-words text-well">
            <span aria-hidden="true">→ </span>
            {finding.remedy.words}
          </p>
        )}
      </div>
    </li>
  );
}
