import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import type { Extension } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import type { Colours } from "../palette";

/** How every editor looks: our colours, in the light and in the dark. */
export function editorLook(c: Colours, isDark: boolean): Extension {
  const marked = isDark ? "#24405a" : "#f3e2cf";
  return [
    EditorView.theme(
      {
        "&": { color: c.ink, backgroundColor: c.surface },
        ".cm-scroller": { fontFamily: "'DejaVu Sans Mono', ui-monospace, monospace" },
        ".cm-gutters": { color: c.faint, backgroundColor: c.paper, border: "none" },
        ".cm-activeLine": { backgroundColor: isDark ? "#ffffff0a" : "#14293d08" },
        ".cm-activeLineGutter": { backgroundColor: isDark ? "#ffffff14" : "#14293d12", color: c.second },
        ".cm-content": { caretColor: c.accent },
        ".cm-cursor, .cm-dropCursor": { borderLeftColor: c.accent, borderLeftWidth: "2px" },
        "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: isDark ? "#2d4d6b" : "#d5e3ea" },
        ".cm-searchMatch": { backgroundColor: marked, outline: `1px solid ${c.attention}` },
        ".cm-searchMatch-selected": { backgroundColor: isDark ? "#6b4a12" : "#ffd79a" },
        ".cm-panels": { color: c.ink, backgroundColor: c.paper },
        ".cm-tooltip": { color: c.ink, backgroundColor: c.surface, border: `1px solid ${c.faint}` },
        ".cm-tooltip-autocomplete ul li[aria-selected]": { color: c.ink, backgroundColor: marked },
        ".cm-foldPlaceholder": { color: c.second, backgroundColor: c.paper, border: `1px solid ${c.faint}` },
        ".cm-matchingBracket, &.cm-focused .cm-matchingBracket": { backgroundColor: marked, outline: `1px solid ${c.faint}` },
      },
      { dark: isDark },
    ),
    syntaxHighlighting(
      HighlightStyle.define([
        { tag: [tags.keyword, tags.modifier, tags.operatorKeyword, tags.controlKeyword, tags.self], color: c.keyword },
        { tag: [tags.string, tags.special(tags.string), tags.regexp, tags.inserted], color: c.text },
        { tag: [tags.number, tags.bool, tags.null, tags.atom, tags.literal], color: c.number },
        { tag: [tags.comment, tags.meta], color: c.second, fontStyle: "italic" },
        { tag: [tags.typeName, tags.className, tags.namespace, tags.tagName, tags.definition(tags.typeName)], color: c.type },
        { tag: [tags.propertyName, tags.attributeName, tags.labelName], color: c.property },
        { tag: [tags.function(tags.variableName), tags.function(tags.propertyName)], color: c.type },
        { tag: [tags.heading, tags.strong], fontWeight: "bold" },
        { tag: tags.emphasis, fontStyle: "italic" },
        { tag: [tags.link, tags.url], color: c.link, textDecoration: "underline" },
        { tag: [tags.deleted, tags.invalid], color: c.failed },
      ]),
    ),
  ];
}
