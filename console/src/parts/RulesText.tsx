import { yaml } from "@codemirror/lang-yaml";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { MergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { basicSetup } from "codemirror";
import { useEffect, useRef, useState } from "react";
import { palette, useDark } from "../palette";
import { editorLook } from "./editorLook";
import * as say from "words/parts/RulesText";

/** The document, with what is wrong with it marked where it stands. */
export function RulesEditor({ document, readOnly, findings, onChange }: { document: string; readOnly: boolean; findings: { line: number; column: number; what: string; fix?: string }[]; onChange: (text: string) => void }) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const [first] = useState(document);
  const dark = useDark();
  useEffect(() => {
    const v = new EditorView({
      parent: place.current!,
      state: EditorState.create({
        doc: first,
        extensions: [basicSetup, editorLook(dark ? palette.dark : palette.light, dark), yaml(), lintGutter(), EditorState.readOnly.of(readOnly), EditorView.contentAttributes.of({ "aria-label": say.houseRules(), tabindex: "0" }), EditorView.updateListener.of((u) => u.docChanged && onChange(u.state.doc.toString()))],
      }),
    });
    view.current = v;
    return () => v.destroy();
  }, [first, readOnly, onChange, dark]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const diagnostics = findings.map((f) => {
      const line = v.state.doc.line(Math.min(Math.max(1, f.line), v.state.doc.lines));
      const from = Math.min(line.to, line.from + Math.max(0, f.column - 1));
      return { from, to: Math.max(from, line.to), severity: "error" as const, message: f.fix ? `${f.what}; ${f.fix}` : f.what };
    });
    v.dispatch(setDiagnostics(v.state, diagnostics));
  }, [findings]);
  return <div ref={place} className="editor" />;
}

/** Two of the documents beside each other, with what differs marked; what is the same over many lines is folded. */
export function SideBySide({ before, after }: { before: string; after: string }) {
  const place = useRef<HTMLDivElement>(null);
  const dark = useDark();
  useEffect(() => {
    const of = (doc: string, label: string) => ({ doc, extensions: [basicSetup, editorLook(dark ? palette.dark : palette.light, dark), yaml(), EditorState.readOnly.of(true), EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" })] });
    const v = new MergeView({ parent: place.current!, a: of(before, say.before()), b: of(after, say.after()), collapseUnchanged: { margin: 4, minSize: 8 }, gutter: true });
    return () => v.destroy();
  }, [before, after, dark]);
  return <div ref={place} className="editor beside-text" data-same={before === after} />;
}
