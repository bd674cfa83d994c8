/** A statement to be written: highlighted, quietly completed, what is wrong at its place. */
import { acceptCompletion, autocompletion, closeCompletion, moveCompletionSelection, startCompletion } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { bracketMatching, StreamLanguage } from "@codemirror/language";
import { standardSQL } from "@codemirror/legacy-modes/mode/sql";
import { setDiagnostics } from "@codemirror/lint";
import { Prec } from "@codemirror/state";
import { drawSelection, EditorView, keymap, lineNumbers, placeholder } from "@codemirror/view";
import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import type { Mistake } from "../../api/client";
import { colours, look } from "../../parts/code";
import { words } from "../../words";
import { complete, type Known } from "./completion";

export interface EditorHandle {
  /** Puts a text where the cursor is, and goes there. */
  insert: (text: string) => void;
}

interface Props {
  text: string;
  change: (text: string) => void;
  run: () => void;
  mistakes: Mistake[];
  known: Known;
  ref: Ref<EditorHandle>;
}

export function StatementEditor({ text, change, run, mistakes, known, ref }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const latest = useRef({ change, run, known });
  latest.current = { change, run, known };
  useEffect(() => {
    if (!place.current) return;
    const made = new EditorView({
      parent: place.current,
      doc: text,
      extensions: [
        // Whatever is typed is typed: only Tab takes what is offered.
        Prec.highest(
          keymap.of([
            { key: "Mod-Enter", run: () => (latest.current.run(), true) },
            { key: "Tab", run: acceptCompletion },
            { key: "Ctrl-Space", run: startCompletion },
            { key: "Escape", run: closeCompletion },
            { key: "Alt-ArrowDown", run: moveCompletionSelection(true) },
            { key: "Alt-ArrowUp", run: moveCompletionSelection(false) },
          ]),
        ),
        lineNumbers(),
        StreamLanguage.define(standardSQL),
        colours,
        look,
        history(),
        drawSelection(),
        bracketMatching(),
        placeholder(words.query.start),
        EditorView.lineWrapping,
        autocompletion({ override: [(context) => complete(context, latest.current.known)], defaultKeymap: false, activateOnTypingDelay: 250 }),
        keymap.of([...defaultKeymap, ...historyKeymap]),
        EditorView.contentAttributes.of({ "aria-label": words.query.statement }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) latest.current.change(update.state.doc.toString());
        }),
      ],
    });
    view.current = made;
    made.focus();
    return () => made.destroy();
  }, []);
  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text) editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const length = editor.state.doc.length;
    const marks = mistakes.map(({ what, instead, at }) => {
      const from = Math.min(at?.from ?? 0, length);
      const to = Math.min(Math.max(at?.until ?? length, from), length);
      return { from, to, severity: "error" as const, message: instead ? `${what}\n${instead}` : what };
    });
    editor.dispatch(setDiagnostics(editor.state, marks));
  }, [mistakes]);
  useImperativeHandle(ref, () => ({
    insert: (text) => {
      const editor = view.current;
      if (!editor) return;
      const { from, to } = editor.state.selection.main;
      const before = editor.state.doc.sliceString(Math.max(0, from - 1), from);
      const spaced = /\w/.test(before) ? ` ${text}` : text;
      editor.dispatch({ changes: { from, to, insert: spaced }, selection: { anchor: from + spaced.length } });
      editor.focus();
    },
  }));
  return <div ref={place} className="max-h-[50vh] min-h-40 overflow-auto rounded-md border border-line [&_.cm-editor]:min-h-40" data-testid="statement" />;
}
