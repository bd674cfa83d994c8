/**
 * The configuration's files, changed here: written, checked as one writes, compared with what is in force, published.
 *
 * - `editor`: a file to write in, and two texts beside each other
 * - `new-rule`: a form for what people change most
 * - `revisions`: what was in force, and bringing it back
 */
import { useEffect, useMemo, useState } from "react";
import { checkDraft, useChange, useConfiguration, useRehearse, useSettings } from "../../../api/queries";
import type { CheckedDraft, ConfigurationFile, ConfigurationFiles, DraftFile, ConfigDiagnostic } from "../../../api/client";
import { RehearsedView } from "../../../parts/rehearsed";
import { QueryView } from "../../../parts/states";
import { styles } from "../../../parts/styles";
import { words } from "../../../words";
import { Diagnostics } from "../../../parts/diagnostics";
import { Difference, Editor } from "./editor";
import { NewRule } from "./new-rule";

const said = words.configuration;
/** How long nobody must have written for the files to be checked. */
const PAUSE = 400;

export default function FilesView() {
  const configuration = useConfiguration();
  return <QueryView query={configuration}>{(files) => <Files files={files} again={() => void configuration.refetch()} />}</QueryView>;
}

function Files({ files, again }: { files: ConfigurationFiles; again: () => void }) {
  const [drafts, setDrafts] = useState<Record<string, string>>({});
  const [name, setName] = useState(files.files[0]?.name ?? "");
  const [isCompared, setCompared] = useState(false);
  const [line, setLine] = useState<{ number: number }>();
  const settings = useSettings();
  const change = useChange();
  const rehearsal = useRehearse();
  const [reason, setReason] = useState("");
  const file = files.files.find((file) => file.name === name) ?? files.files[0];
  const changed = useMemo(
    () =>
      files.files
        .filter((file) => drafts[file.name] !== undefined && drafts[file.name] !== file.text)
        .map((file): DraftFile => ({ name: file.name, text: drafts[file.name] ?? "", version: file.version })),
    [files, drafts],
  );
  const checked = useChecked(changed);
  if (!file) return null;
  const text = drafts[file.name] ?? file.text;
  const errors = checked?.found.filter((finding) => finding.severity === "error").length ?? 0;
  const write = (name: string, text: string) => {
    change.reset();
    rehearsal.reset();
    setDrafts((drafts) => ({ ...drafts, [name]: text }));
  };
  const publish = () =>
    change.mutate(
      { files: changed, reason },
      {
        onSuccess: (result) => {
          if (!result.in_force) return;
          setDrafts({});
          setReason("");
          rehearsal.reset();
          again();
        },
      },
    );
  const go = (finding: ConfigDiagnostic) => {
    setCompared(false);
    setName(files.files.find((file) => file.name === finding.file)?.name ?? name);
    setLine({ number: finding.line });
  };
  const ofFile = (checked?.found ?? []).filter((finding) => finding.file === file.name);
  return (
    <section aria-label={said.title}>
      <h1 className="text-2xl font-semibold">{said.title}</h1>
      <div className="mt-3 flex flex-wrap items-center gap-3">
        <label className="flex min-w-0 items-center gap-2">
          <span className="text-quiet">{said.file}</span>
          <select className={`${styles.field} max-w-full font-mono text-sm`} value={file.name} onChange={(event) => setName(event.target.value)}>
            {files.files.map((file) => (
              <option key={file.name} value={file.name}>
                {file.name}
              </option>
            ))}
          </select>
        </label>
        <button type="button" className={styles.button} aria-pressed={isCompared} disabled={text == null} onClick={() => setCompared(!isCompared)}>
          {isCompared ? said.edit : said.compare}
        </button>
        <span className="text-sm text-quiet" data-testid="difference-figures">
          {text == null ? "" : differenceOf(file, text)}
        </span>
        <span className="ml-auto flex flex-wrap gap-3">
          {changed.length > 0 && (
            <button type="button" className={styles.button} onClick={() => setDrafts({})}>
              {said.undo}
            </button>
          )}
          <button
            type="button"
            className={styles.button}
            disabled={changed.length === 0 || errors > 0 || !checked || rehearsal.isPending}
            onClick={() => rehearsal.mutate(changed)}
          >
            {rehearsal.isPending ? words.findings.rehearsing : words.findings.rehearse}
          </button>
          <button type="button" className={styles.strong} disabled={changed.length === 0 || errors > 0 || !checked || change.isPending} onClick={publish}>
            {change.isPending ? said.publishing : said.publish}
          </button>
        </span>
      </div>
      <Outcome change={change} again={again} />
      {rehearsal.isError && (
        <p role="alert" className="mt-3 border-l-4 border-trouble pl-3">
          {rehearsal.error.message}
        </p>
      )}
      {rehearsal.data && changed.length > 0 && (
        <section className="mt-3 max-w-4xl" aria-label={words.rehearsal.title}>
          <h2 className="border-b border-line pb-1 text-lg font-semibold">{words.rehearsal.title}</h2>
          <RehearsedView rehearsed={rehearsal.data} />
          <label className="mt-3 block">
            <span className="text-sm text-quiet">{words.published.reason}</span>
            <input className={`${styles.field} block w-full`} value={reason} onChange={(event) => setReason(event.target.value)} />
          </label>
        </section>
      )}
      <div className="mt-3 grid gap-x-8 gap-y-6 xl:grid-cols-[minmax(0,1fr)_26rem]">
        <div className="min-w-0">
          {text == null ? (
            <p className="text-quiet">{said.tooLarge}</p>
          ) : isCompared ? (
            <Difference before={file.in_force ?? ""} after={text} />
          ) : (
            <Editor name={file.name} text={text} change={(text) => write(file.name, text)} settings={settings.data ?? []} findings={ofFile} line={line} />
          )}
          <div role="status" className="mt-2" data-testid="verdict">
            {!checked && <p className="text-quiet">{said.checking}</p>}
            {checked && (
              <p className={errors > 0 ? "font-semibold text-trouble" : "text-well"}>
                {errors > 0 ? said.unsound(errors) : said.sound}{" "}
                {checked.found.length > errors && <span className="text-attention-text">{said.remarks(checked.found.length - errors)}</span>}
              </p>
            )}
          </div>
          {checked && checked.found.length > 0 && <Diagnostics findings={checked.found} go={go} />}
        </div>
        <NewRule
          drafts={changed}
          written={(written) => {
            write(written.name, written.text);
            setName(written.name);
            setCompared(false);
            setLine({ number: written.line });
          }}
        />
      </div>
    </section>
  );
}

/** What came of publishing. */
function Outcome({ change, again }: { change: ReturnType<typeof useChange>; again: () => void }) {
  if (change.isError) {
    return (
      <div role="alert" className="mt-3 border-l-4 border-trouble pl-3">
        <p>{change.error.message}</p>
        <button type="button" className={styles.quiet} onClick={again}>
          {said.reload}
        </button>
      </div>
    );
  }
  const result = change.data;
  if (!result) return null;
  return (
    <div role="status" className={`mt-3 border-l-4 pl-3 ${result.in_force ? "border-well" : "border-trouble"}`} data-testid="outcome">
      <p className="font-semibold">{result.in_force ? said.published(result.revision ?? 0) : said.refused}</p>
      {result.later.length > 0 && <p>{said.later(result.later.join(", "))}</p>}
      {result.reason && <p className="break-words">{result.reason}</p>}
      {!result.in_force && <Diagnostics findings={result.found} />}
    </div>
  );
}

/** Checks files as they might be, when nobody has written for a moment. */
function useChecked(files: DraftFile[]): CheckedDraft | undefined {
  const [checked, setChecked] = useState<{ of: DraftFile[]; result: CheckedDraft }>();
  useEffect(() => {
    let isWanted = true;
    const timer = window.setTimeout(() => {
      // Somebody else's change is found when it is published.
      const drafts = files.map(({ name, text }) => ({ name, text }));
      checkDraft(drafts).then(
        (result) => isWanted && setChecked({ of: files, result }),
        () => isWanted && setChecked(undefined),
      );
    }, PAUSE);
    return () => {
      isWanted = false;
      window.clearTimeout(timer);
    };
  }, [files]);
  return checked && checked.of === files ? checked.result : undefined;
}

/** Lines more and fewer than in force, told apart by what they say. */
function differenceOf(file: ConfigurationFile, text: string): string {
  const [before, after] = [lines(file.in_force ?? ""), lines(text)];
  const missing = (of: Map<string, number>, from: Map<string, number>) =>
    [...of].reduce((sum, [line, times]) => sum + Math.max(0, times - (from.get(line) ?? 0)), 0);
  const [added, removed] = [missing(after, before), missing(before, after)];
  return added + removed === 0 ? said.unchanged : said.changed(added, removed);
}

function lines(text: string): Map<string, number> {
  const all = new Map<string, number>();
  text.split("\n").forEach((line) => all.set(line, (all.get(line) ?? 0) + 1));
  return all;
}
