/** What a statement can be made of, beside it: columns, functions, statements with names, those that were run before. */
import { Tabs } from "radix-ui";
import { useState, type ReactNode } from "react";
import type { NamedQuery } from "../../api/client";
import { useForgetQuery, useKeepQuery, useMe, useNamedQueries, useQueryColumns, useQueryFunctions } from "../../api/queries";
import { styles } from "../../parts/styles";
import type { Scope } from "../../scope";
import { words } from "../../words";
import { past } from "./past";

const said = words.query;
const LIST = "mt-2 max-h-[70vh] overflow-y-auto pr-2";
const ENTRY = "block w-full rounded-md px-2 py-1.5 text-left hover:bg-sea-soft";

interface Props {
  zone: string;
  scope: Scope;
  draft: string;
  insert: (text: string) => void;
  /** Shows a statement in the editor; it is not run. */
  open: (statement: string) => void;
}

export function Side(props: Props) {
  const [sought, setSought] = useState("");
  const fits = (...texts: string[]) => texts.some((text) => text.toLowerCase().includes(sought.toLowerCase()));
  return (
    <aside className="mt-8 min-w-0 lg:mt-0">
      <Tabs.Root defaultValue="named">
        <Tabs.List className="flex border-b border-line text-sm" aria-label={words.pages.query.name}>
          {(["named", "columns", "functions", "history"] as const).map((name) => (
            <Tabs.Trigger
              key={name}
              value={name}
              className="px-2.5 py-1.5 text-quiet hover:text-ink data-[state=active]:border-b-2 data-[state=active]:border-sea data-[state=active]:font-semibold data-[state=active]:text-sea"
            >
              {said[name]}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <input type="search" aria-label={said.find} placeholder={said.find} value={sought} onChange={(event) => setSought(event.target.value)} className={`${styles.field} mt-3 w-full`} />
        <Tabs.Content value="named" tabIndex={-1}>
          <Named {...props} fits={fits} />
        </Tabs.Content>
        <Tabs.Content value="columns" tabIndex={-1}>
          <Columns {...props} fits={fits} />
        </Tabs.Content>
        <Tabs.Content value="functions" tabIndex={-1}>
          <Functions {...props} fits={fits} />
        </Tabs.Content>
        <Tabs.Content value="history" tabIndex={-1}>
          <History {...props} fits={fits} />
        </Tabs.Content>
      </Tabs.Root>
    </aside>
  );
}

type PartProps = Props & { fits: (...texts: string[]) => boolean };

function Columns({ zone, scope, insert, fits }: PartProps) {
  const columns = useQueryColumns(scope, zone);
  return (
    <Listed>
      {(columns.data?.rows ?? [])
        .filter((row) => fits(String(row["name"]), String(row["meaning"])))
        .map((row) => {
          const name = String(row["name"]);
          const filled = row["filled"];
          return (
            <li key={name}>
              <button type="button" className={ENTRY} onClick={() => insert(name)} data-insert={name} title={said.insert(name)}>
                <span className="flex items-baseline gap-2">
                  <span className="font-mono text-sm font-semibold">{name}</span>
                  <span className="text-xs text-quiet">
                    {String(row["type"])} {String(row["unit"] ?? "")}
                  </span>
                  {typeof filled === "number" && filled < 100 && <span className="ml-auto text-xs text-quiet">{said.filled(filled)}</span>}
                </span>
                <span className="block text-sm text-quiet">{String(row["meaning"])}</span>
              </button>
              <Samples samples={String(row["samples"] ?? "")} isText={row["type"] === "text"} insert={insert} />
            </li>
          );
        })}
    </Listed>
  );
}

/** What stands in a column most often, to be inserted as it is compared with. */
function Samples({ samples, isText, insert }: { samples: string; isText: boolean; insert: (text: string) => void }) {
  const all = samples.split("  ").filter(Boolean);
  if (all.length === 0) return null;
  return (
    <p className="flex flex-wrap gap-x-3 px-2 pb-1.5">
      {all.map((sample) => {
        const written = isText ? `'${sample.replaceAll("'", "''")}'` : sample;
        return (
          <button
            key={sample}
            type="button"
            className="max-w-full truncate font-mono text-xs text-sea hover:underline"
            onClick={() => insert(written)}
            title={said.insert(written)}
          >
            {sample}
          </button>
        );
      })}
    </p>
  );
}

function Functions({ insert, fits }: PartProps) {
  const functions = useQueryFunctions();
  return (
    <Listed>
      {(functions.data ?? [])
        .filter((one) => fits(one.name, one.meaning))
        .map((one) => (
          <li key={one.name}>
            <button type="button" className={ENTRY} onClick={() => insert(one.usage.split(",")[0] ?? one.name)} title={one.example}>
              <span className="font-mono text-sm font-semibold break-words">{one.usage}</span>
              <span className="block text-sm text-quiet">{one.meaning}</span>
            </button>
          </li>
        ))}
    </Listed>
  );
}

function Named({ draft, open, fits }: PartProps) {
  const named = useNamedQueries();
  const me = useMe();
  const forget = useForgetQuery();
  const mayForget = (query: NamedQuery) => query.owner && (query.owner === me.data?.name || me.data?.role === "operator");
  return (
    <>
      <Keep statement={draft} />
      <Listed>
        {(named.data ?? [])
          .filter((one) => fits(one.name, one.question ?? "", one.statement))
          .map((one) => (
            <li key={one.name} className="flex items-start gap-1">
              <button type="button" className={ENTRY} onClick={() => open(filled(one))} data-open={one.name}>
                <span className="font-semibold">{one.question || one.name}</span>
                <span className="block text-xs text-quiet">
                  {one.name} · {one.owner ? said.kept(one.owner) : said.shipped}
                </span>
              </button>
              {mayForget(one) && (
                <button type="button" className="px-2 py-1.5 text-quiet hover:text-trouble" aria-label={said.forget(one.name)} onClick={() => forget.mutate(one.name)}>
                  ×
                </button>
              )}
            </li>
          ))}
      </Listed>
    </>
  );
}

/** A statement with the usual values of its names written out. */
const filled = (query: NamedQuery): string =>
  Object.entries(query.parameters ?? {}).reduce(
    (text, [name, value]) => text.replaceAll(`:${name}`, /^-?\d+(\.\d+)?$/.test(value) ? value : `'${value.replaceAll("'", "''")}'`),
    query.statement,
  );

function Keep({ statement }: { statement: string }) {
  const [name, setName] = useState("");
  const keep = useKeepQuery();
  const submit = (event: React.FormEvent) => {
    event.preventDefault();
    keep.mutate({ name: name.trim(), question: "", statement, parameters: {} }, { onSuccess: () => setName("") });
  };
  return (
    <form className="mt-3" onSubmit={submit}>
      <div className="flex gap-2">
        <input aria-label={said.keepAs} placeholder={said.keepAs} value={name} onChange={(event) => setName(event.target.value)} className={`${styles.field} min-w-0 grow`} />
        <button type="submit" className={styles.button} disabled={name.trim() === "" || statement.trim() === ""}>
          {said.keep}
        </button>
      </div>
      {keep.error && (
        <p role="alert" className="mt-1 text-sm text-trouble">
          {keep.error.message}
        </p>
      )}
    </form>
  );
}

function History({ open, fits }: PartProps) {
  const statements = past().filter((one) => fits(one));
  if (statements.length === 0) return <p className="mt-3 text-sm text-quiet">{said.noHistory}</p>;
  return (
    <Listed>
      {statements.map((one) => (
        <li key={one}>
          <button type="button" className={ENTRY} onClick={() => open(one)}>
            <span className="line-clamp-3 font-mono text-xs break-words">{one}</span>
          </button>
        </li>
      ))}
    </Listed>
  );
}

const Listed = ({ children }: { children: ReactNode }) => <ul className={LIST}>{children}</ul>;
