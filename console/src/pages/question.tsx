/** The tables that answer a question, as lists: those that are shown at once, and further ones when they are asked for. */
import { useState } from "react";
import type { Survey } from "../api/client";
import { usePreferences } from "../preferences";
import { useNarrowing } from "../scope";
import { TableList } from "../tables/list";
import { words } from "../words";

interface Props {
  survey: Survey;
  /** The question's name. */
  name: string;
  zone: string;
  /** Tables that are pictures on this page already, or stand at its head. */
  drawn: string[];
}

export function Question({ survey, name, zone, drawn }: Props) {
  const { show } = usePreferences();
  const [isOpen, setOpen] = useState(false);
  const { narrow, trail } = useNarrowing();
  const question = survey.questions.find((question) => question.name === name);
  if (!question || show === "pictures") return null;
  const tables = (names: string[]) =>
    names
      .filter((name) => !drawn.includes(name))
      .map((name) => survey.tables[name])
      .filter((table) => table !== undefined);
  const further = tables(question.further ?? []);
  const list = (table: Survey["tables"][string]) => <TableList key={table.name} table={table} zone={zone} narrow={narrow} trail={trail} />;
  return (
    <>
      <div className={LISTS}>{tables(question.tables).map(list)}</div>
      {further.length > 0 && (
        <details className="mt-8" open={isOpen} onToggle={(event) => setOpen(event.currentTarget.open)}>
          <summary className="cursor-pointer text-sea">{words.report.further(further.map((table) => table.title))}</summary>
          {isOpen && <div className={LISTS}>{further.map(list)}</div>}
        </details>
      )}
      {survey.caveats.length > 0 && (
        <ul className="mt-8 border-t border-line pt-3 text-sm text-quiet" data-testid="caveats">
          {survey.caveats.map((caveat) => (
            <li key={caveat}>{caveat}</li>
          ))}
        </ul>
      )}
    </>
  );
}

/** Lists stand in two columns where there is room. */
const LISTS = "gap-x-12 lg:columns-2 [&>section]:mt-0 [&>section]:break-inside-avoid [&>section]:pt-8";
