/** What is offered while a statement is written: columns, functions, and values of columns that have few. */
import type { CompletionContext, CompletionResult } from "@codemirror/autocomplete";

export interface Known {
  columns: { name: string; meaning: string; values: string[] }[];
  functions: { name: string; usage: string; meaning: string }[];
}

const KEYWORDS =
  "select from requests where group by order by having limit and or not in like between is null as distinct count sum avg min max case when then else end desc asc with over partition interval".split(
    " ",
  );

/** Nothing is offered within a comment, for a single letter, or for a word that is whole already. */
export function complete(context: CompletionContext, known: Known): CompletionResult | null {
  const value = context.matchBefore(/(\w+)\s*(=|<>|in\s*\()\s*(?:'[^']*'\s*,\s*)*'[^']*/i);
  if (value) {
    const name = /^\w+/.exec(value.text)?.[0]?.toLowerCase();
    const column = known.columns.find((column) => column.name === name);
    const from = value.from + value.text.lastIndexOf("'") + 1;
    if (!column || column.values.length === 0) return null;
    return { from, options: column.values.map((label) => ({ label, type: "text" })), validFor: /^[^']*$/ };
  }
  const word = context.matchBefore(/\w+/);
  if (!word || (word.to - word.from < 2 && !context.explicit)) return null;
  const line = context.state.doc.lineAt(context.pos).text.slice(0, context.pos - context.state.doc.lineAt(context.pos).from);
  if (line.includes("--") || (line.split("'").length - 1) % 2 === 1) return null;
  const typed = word.text.toLowerCase();
  const columns = known.columns.map(({ name, meaning }) => ({ label: name, detail: meaning, type: "property", boost: 2 }));
  const functions = known.functions.map(({ name, usage, meaning }) => ({
    label: name,
    displayLabel: usage,
    detail: meaning,
    apply: `${name}(`,
    type: "function",
    boost: 1,
  }));
  const keywords = KEYWORDS.map((label) => ({ label, type: "keyword" }));
  const options = [...columns, ...functions, ...keywords];
  if (!context.explicit && options.some((option) => option.label === typed)) return null;
  return { from: word.from, options, validFor: /^\w*$/ };
}
