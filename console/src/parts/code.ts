/** How what is written in code looks: the same in every editor. */
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";

export const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: tags.comment, color: "var(--quiet)", fontStyle: "italic" },
    { tag: tags.string, color: "var(--well)" },
    { tag: tags.number, color: "var(--clay)" },
    { tag: tags.bool, color: "var(--clay)" },
    { tag: tags.propertyName, color: "var(--sea)" },
    { tag: tags.keyword, color: "var(--violet)", fontWeight: "600" },
    { tag: [tags.standard(tags.name), tags.typeName], color: "var(--sea)" },
    { tag: tags.atom, color: "var(--violet)", fontWeight: "600" },
  ]),
);

export const look = EditorView.theme({
  "&": { backgroundColor: "var(--sheet)", color: "var(--ink)", fontSize: "0.9rem" },
  "&.cm-focused": { outline: "2px solid var(--sea)" },
  ".cm-content, .cm-gutters": { fontFamily: "var(--font-mono), ui-monospace, monospace" },
  ".cm-content": { caretColor: "var(--ink)" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--quiet)", borderRight: "1px solid var(--line)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "color-mix(in oklab, var(--sea-soft) 40%, transparent)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "var(--sea-soft)" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", color: "var(--ink)", border: "1px solid var(--line)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--sea-soft)", color: "var(--ink)" },
  // Its own signs are in none of our faces.
  ".cm-collapsedLines:before, .cm-collapsedLines:after": { content: '"⋯"' },
  ".cm-collapsedLines": { background: "var(--paper)", color: "var(--quiet)" },
  ".cm-diagnostic-error": { borderLeftColor: "var(--trouble)" },
  ".cm-diagnostic-warning": { borderLeftColor: "var(--attention)" },
});
