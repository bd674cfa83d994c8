/** A file to be written in: highlighted, with the settings offered as one types, and what is wrong at its place. */
import { autocompletion, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { bracketMatching, StreamLanguage } from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { MergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";
import type { ConfigDiagnostic, KnownSetting } from "../../../api/client";
import { colours, look } from "../../../parts/code";

interface Props {
  name: string;
  text: string;
  change: (text: string) => void;
  settings: KnownSetting[];
  /** What is wrong with this file. */
  findings: ConfigDiagnostic[];
  /** A line to go to, counted from 1; each time it is another object. */
  line?: { number: number };
}

const reading = [lineNumbers(), StreamLanguage.define(toml), colours, look];

export function Editor({ name, text, change, settings, findings, line }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const known = useRef({ change, settings });
  known.current = { change, settings };
  useEffect(() => {
    if (!place.current) return;
    const made = new EditorView({
      parent: place.current,
      doc: text,
      extensions: [
        reading,
        history(),
        drawSelection(),
        highlightActiveLine(),
        bracketMatching(),
        EditorView.lineWrapping,
        lintGutter(),
        autocompletion({ override: [(context) => complete(context, known.current.settings)] }),
        keymap.of([...defaultKeymap, ...historyKeymap]),
        EditorView.contentAttributes.of({ "aria-label": name }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) known.current.change(update.state.doc.toString());
        }),
      ],
    });
    view.current = made;
    return () => made.destroy();
    // Another file has another editor; its text is the editor's own from then on.
  }, [name]);
  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text) editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const editor = view.current;
    if (editor)
      editor.dispatch(
        setDiagnostics(
          editor.state,
          findings.map((finding) => diagnosticOf(editor.state, finding)),
        ),
      );
  }, [findings, text]);
  useEffect(() => {
    const editor = view.current;
    if (!editor || !line) return;
    const at = editor.state.doc.line(Math.min(Math.max(line.number, 1), editor.state.doc.lines));
    editor.dispatch({ selection: { anchor: at.from }, effects: EditorView.scrollIntoView(at.from, { y: "center" }) });
    editor.focus();
  }, [line]);
  return <div ref={place} className="max-h-[65vh] min-h-72 overflow-auto rounded-md border border-line [&_.cm-editor]:min-h-72" data-testid="editor" />;
}

/** Two texts beside each other, what differs marked. */
export function Difference({ before, after }: { before: string; after: string }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!place.current) return;
    const fixed = [reading, EditorState.readOnly.of(true), EditorView.editable.of(false), EditorView.lineWrapping];
    const merge = new MergeView({
      parent: place.current,
      a: { doc: before, extensions: fixed },
      b: { doc: after, extensions: fixed },
      collapseUnchanged: { margin: 3, minSize: 4 },
    });
    return () => merge.destroy();
  }, [before, after]);
  return <div ref={place} tabIndex={0} className="max-h-[65vh] overflow-auto rounded-md border border-line" data-testid="difference" />;
}

function diagnosticOf(state: EditorState, finding: ConfigDiagnostic): Diagnostic {
  const line = state.doc.line(Math.min(Math.max(finding.line, 1), state.doc.lines));
  const from = Math.min(line.from + finding.column - 1, line.to);
  return {
    from,
    to: Math.max(line.to, from),
    severity: finding.severity === "error" ? "error" : "warning",
    message: [finding.message, finding.reason, finding.remedy].filter(Boolean).join("\n"),
  };
}

/** The section that a place is in, as the list of settings names it: the last part of the last heading before it. */
export function sectionAt(text: string): string {
  const headings = [...text.matchAll(/^\s*\[\[?([\w.]+)\]?\]/gm)];
  const name = headings.at(-1)?.[1] ?? "";
  return name.split(".").at(-1) ?? "";
}

/** Settings of the section that one writes in; headings behind a bracket. */
function complete(context: CompletionContext, settings: KnownSetting[]): CompletionResult | null {
  const line = context.state.doc.lineAt(context.pos);
  const before = line.text.slice(0, context.pos - line.from);
  const heading = /^\s*(\[[[\w.]*)$/.exec(before);
  if (heading) {
    const headings = settings.filter((setting) => setting.example.startsWith("["));
    return {
      from: context.pos - (heading[1]?.length ?? 0),
      options: headings.map((setting) => ({ label: setting.example, detail: setting.about, type: "class" })),
    };
  }
  const word = /^\s*([\w-]*)$/.exec(before);
  if (!word || (word[1] === "" && !context.explicit)) return null;
  const section = sectionAt(context.state.doc.sliceString(0, line.from));
  const known = settings.filter((setting) => setting.section === section && !setting.example.startsWith("["));
  return {
    from: context.pos - (word[1]?.length ?? 0),
    options: known.map((setting) => ({ label: setting.key, detail: setting.about, apply: setting.example, type: "property" })),
  };
}
