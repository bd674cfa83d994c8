/** What else do I want to know? A statement over the requests of the scope, its answer as a table or a chart. */
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { CallFailed, type Mistake } from "../../api/client";
import { useAnswer, useMistakes, useProgress, useQueryColumns, useQueryFunctions } from "../../api/queries";
import { count, milliseconds } from "../../figures";
import { styles } from "../../parts/styles";
import { addressOf, parametersOf, useScope } from "../../scope";
import { todayIn } from "../../scope/period";
import { words } from "../../words";
import type { PageProps } from "../props";
import type { Known } from "./completion";
import { Download } from "./download";
import { StatementEditor, type EditorHandle } from "./editor";
import { remember } from "./past";
import { Answer } from "./answer";
import { Side } from "./side";

const said = words.query;

/** Columns of which all values are offered have no more than this many. */
const FEW = 12;

export default function QueryPage({ zone }: PageProps) {
  const [scope, change] = useScope();
  const [draft, setDraft] = useState(scope.statement);
  const [id] = useState(() => crypto.randomUUID());
  const [isCancelled, setCancelled] = useState(false);
  const editor = useRef<EditorHandle>(null);
  const client = useQueryClient();
  const answer = useAnswer(scope, zone, id);
  const isRunning = answer.isFetching;
  const progress = useProgress(id, isRunning);
  const settled = useSettled(draft, 500);
  const checked = useMistakes(settled);
  const known = useKnown(scope, zone);
  useEffect(() => setDraft(scope.statement), [scope.statement]);
  useEffect(() => {
    if (answer.data) remember(scope.statement);
  }, [answer.data, scope.statement]);

  const run = () => {
    setCancelled(false);
    if (draft.trim() === scope.statement.trim()) void answer.refetch();
    else change({ statement: draft, chart: "" });
  };
  const cancel = () => {
    setCancelled(true);
    void client.cancelQueries({ queryKey: ["query"] });
  };
  const failed = answer.error instanceof CallFailed ? answer.error.problem.mistake : undefined;
  const mistakes: Mistake[] = useMemo(
    () => (failed && draft === scope.statement ? [failed] : settled === draft ? (checked.data ?? []) : []),
    [failed, draft, scope.statement, settled, checked.data],
  );
  const [mistake] = mistakes;
  return (
    <div className="grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_21rem]">
      <div className="min-w-0">
        <h1 className="sr-only">{words.pages.query.name}</h1>
        <StatementEditor ref={editor} text={draft} change={setDraft} run={run} mistakes={mistakes} known={known} />
        <div className="mt-2 flex flex-wrap items-center gap-3">
          {isRunning ? (
            <button type="button" className={styles.button} onClick={cancel}>
              {said.cancel}
            </button>
          ) : (
            <button type="button" className={styles.strong} onClick={run} disabled={draft.trim() === ""}>
              {said.run}
            </button>
          )}
          <span className="text-sm text-quiet">{said.runBy}</span>
          <span className="min-w-0 text-sm" role="status" data-testid="progress">
            {isRunning && (progress.data ? said.running(count(progress.data.read), count(progress.data.of)) : said.waiting)}
            {!isRunning && isCancelled && said.cancelled}
          </span>
          <div className="ml-auto flex gap-2">
            {answer.data && <Download statement={scope.statement} query={parametersOf(scope, todayIn(zone)).toString()} />}
            <Share address={addressOf({ ...scope, statement: draft })} isDisabled={draft.trim() === ""} />
          </div>
        </div>
        {mistake && (
          <p className="mt-2 border-l-4 border-trouble pl-3" role="alert" data-testid="mistake">
            <span className="font-semibold">{mistake.what}</span>
            {mistake.instead && <span className="text-quiet"> — {mistake.instead}</span>}
          </p>
        )}
        {!mistake && answer.error && !isCancelled && (
          <p className="mt-2 border-l-4 border-trouble pl-3" role="alert">
            {answer.error.message}
          </p>
        )}
        {answer.data && (
          <Answer
            answer={answer.data}
            chart={scope.chart}
            choose={(chart) => change({ chart })}
            took={said.answered(count(answer.data.table.rows.length), count(answer.data.read), milliseconds(answer.data.took))}
          />
        )}
      </div>
      <Side
        zone={zone}
        scope={scope}
        draft={draft}
        insert={(text) => editor.current?.insert(text)}
        open={(statement) => setDraft(statement)}
      />
    </div>
  );
}

function Share({ address, isDisabled }: { address: string; isDisabled: boolean }) {
  const [isCopied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard?.writeText(new URL(address, window.location.href).href);
    setCopied(true);
    window.setTimeout(() => setCopied(false), 1500);
  };
  return (
    <button type="button" className={styles.button} onClick={() => void copy()} disabled={isDisabled} data-address={address}>
      {isCopied ? said.shared : said.share}
    </button>
  );
}

/** What is offered while one types. */
function useKnown(scope: ReturnType<typeof useScope>[0], zone: string): Known {
  const columns = useQueryColumns(scope, zone);
  const functions = useQueryFunctions();
  return useMemo(
    () => ({
      columns: (columns.data?.rows ?? []).map((row) => {
        const values = String(row["samples"] ?? "")
          .split("  ")
          .filter(Boolean);
        return { name: String(row["name"]), meaning: String(row["meaning"]), values: row["type"] === "text" ? values.slice(0, FEW) : [] };
      }),
      functions: functions.data ?? [],
    }),
    [columns.data, functions.data],
  );
}

/** A value once it has not changed for a while. */
function useSettled(value: string, delay: number): string {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), delay);
    return () => window.clearTimeout(timer);
  }, [value, delay]);
  return settled;
}
