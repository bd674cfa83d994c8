/** A form for what people change most: it writes a rule into the text of the file, where it can be seen before anything is in force. */
import { useState, type FormEvent, type ReactNode } from "react";
import { useStatus, useWriteRule } from "../../../api/queries";
import type { DraftFile, NewRule as Rule, WrittenRule } from "../../../api/client";
import { styles } from "../../../parts/styles";
import { useScope } from "../../../scope";
import { words } from "../../../words";

const said = words.configuration;
type Kind = Rule["does"]["kind"];

export function NewRule({ drafts, written }: { drafts: DraftFile[]; written: (rule: WrittenRule) => void }) {
  const [scope] = useScope();
  const status = useStatus();
  const writing = useWriteRule();
  const [kind, setKind] = useState<Kind>("redirect");
  const sites = status.data?.sites.map((site) => site.name) ?? [];
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    const text = (name: string) => String(given.get(name) ?? "").trim();
    const files = drafts.map(({ name, text }) => ({ name, text }));
    const rule: Rule = { site: text("site"), name: text("name"), path: text("path"), is_first: given.has("first"), does: effectOf(kind, text), files };
    writing.mutate(rule, { onSuccess: written });
  };
  return (
    <form onSubmit={submit} className="h-fit rounded-lg border border-line bg-sheet p-4" aria-label={said.add}>
      <h2 className="text-lg font-semibold">{said.add}</h2>
      <div className="mt-2 space-y-3">
        <Field name={said.site}>
          <select name="site" className={`${styles.field} w-full`} defaultValue={scope.sites[0] ?? sites[0]}>
            {sites.map((site) => (
              <option key={site}>{site}</option>
            ))}
          </select>
        </Field>
        <Field name={`${said.path}, ${said.pathAbout}`}>
          <input name="path" required defaultValue="/" spellCheck={false} className={`${styles.field} w-full font-mono`} />
        </Field>
        <Field name={said.does}>
          <select className={`${styles.field} w-full`} value={kind} onChange={(event) => setKind(event.target.value as Kind)} data-testid="kind">
            {Object.entries(said.kinds).map(([kind, name]) => (
              <option key={kind} value={kind}>
                {name}
              </option>
            ))}
          </select>
        </Field>
        {kind === "redirect" && (
          <>
            <Field name={`${said.to}, ${said.toAbout}`}>
              <input name="to" required spellCheck={false} className={`${styles.field} w-full font-mono`} />
            </Field>
            <Field name={said.status}>
              <select name="status" className={`${styles.field} w-full`}>
                {Object.entries(said.statuses)
                  .reverse()
                  .map(([status, name]) => (
                    <option key={status} value={status}>
                      {name}
                    </option>
                  ))}
              </select>
            </Field>
          </>
        )}
        {kind === "header" && (
          <>
            <Field name={said.fieldName}>
              <input name="field" required spellCheck={false} placeholder="X-Content-Type-Options" className={`${styles.field} w-full font-mono`} />
            </Field>
            <Field name={said.fieldValue}>
              <input name="value" required spellCheck={false} placeholder="nosniff" className={`${styles.field} w-full font-mono`} />
            </Field>
          </>
        )}
        {kind === "login" && (
          <Field name={said.realm}>
            <input name="realm" required spellCheck={false} placeholder="staff" className={`${styles.field} w-full font-mono`} />
          </Field>
        )}
        <Field name={said.ruleName}>
          <input name="name" className={`${styles.field} w-full`} />
        </Field>
        <label className="flex items-center gap-2">
          <input type="checkbox" name="first" />
          {said.first}
        </label>
      </div>
      <button type="submit" className={`${styles.strong} mt-4`} disabled={writing.isPending}>
        {said.write}
      </button>
      <div aria-live="polite" className="mt-2">
        {writing.isError && (
          <p role="alert" className="border-l-4 border-trouble pl-3">
            {writing.error.message}
          </p>
        )}
        {writing.data && <p className="text-well">{said.written(writing.data.line)}</p>}
      </div>
    </form>
  );
}

function Field({ name, children }: { name: string; children: ReactNode }) {
  return (
    <label className="block">
      <span className="text-sm text-quiet">{name}</span>
      {children}
    </label>
  );
}

function effectOf(kind: Kind, text: (name: string) => string): Rule["does"] {
  switch (kind) {
    case "redirect":
      return { kind, to: text("to"), status: Number(text("status")) };
    case "header":
      return { kind, name: text("field"), value: text("value") };
    case "login":
      return { kind, realm: text("realm") };
    default:
      return { kind };
  }
}
