import { emacsStyleKeymap, historyField, indentWithTab } from "@codemirror/commands";
import { indentUnit, LanguageDescription } from "@codemirror/language";
import { languages } from "@codemirror/language-data";
import { unifiedMergeView } from "@codemirror/merge";
import { Compartment, EditorSelection, EditorState, Prec, type Extension } from "@codemirror/state";
import { EditorView, keymap } from "@codemirror/view";
import { basicSetup } from "codemirror";
import * as say from "words/bench/editor";

/** How an editor writes: what a definition says of that, as far as it means something here. */
export interface Manner {
  tabSize?: number;
  tabs?: boolean; // indent by tabs
  rulers?: number[];
  trim?: boolean; // blanks at the ends of lines, when it is saved
  finalNewline?: boolean;
  formatOnSave?: boolean;
}

/** What an editor tells whoever put it on the page. */
export interface Listener {
  changed(text: () => string): void;
  save(): void;
}

const wayOut = say.f6LeavesTheEditor();

/** FileEditor is one file in an editor. It knows no page and no service. */
export class FileEditor {
  readonly view: EditorView;
  private readonly language = new Compartment();
  private readonly look = new Compartment();
  private readonly manner = new Compartment();
  private readonly merge = new Compartment();
  private readonly more = new Compartment();
  private readonly stops = new Compartment();
  private how: Manner = {};

  constructor(parent: HTMLElement, path: string, text: string, told: Listener, readOnly: boolean, emacs: boolean, kept?: unknown) {
    // What ends all its lines as Windows does keeps that; else they are kept byte by byte.
    const windows = text.includes("\r\n") && !/(^|[^\r])\n|\r(?!\n)/.test(text);
    const extensions: Extension = [
      this.stops.of([]),
      Prec.high(keymap.of([{ key: "Mod-s", preventDefault: true, run: () => (told.save(), true) }])),
      emacs ? Prec.high(keymap.of(emacsStyleKeymap)) : [],
      basicSetup,
      keymap.of([indentWithTab]),
      EditorState.lineSeparator.of(windows ? "\r\n" : "\n"),
      EditorState.readOnly.of(readOnly),
      EditorView.contentAttributes.of({ "aria-label": `${path}. ${wayOut}`, tabindex: "0" }),
      EditorView.updateListener.of((u) => u.docChanged && told.changed(() => this.text())),
      this.language.of([]),
      this.look.of([]),
      this.manner.of([]),
      this.merge.of([]),
      this.more.of([]),
    ];
    let state: EditorState | undefined;
    if (kept) {
      try {
        state = EditorState.fromJSON(kept, { extensions }, { history: historyField });
        if (state.sliceDoc() !== text) state = undefined; // it is another text by now
      } catch {
        state = undefined;
      }
    }
    this.view = new EditorView({ parent, state: state ?? EditorState.create({ doc: text, extensions }) });
    const language = LanguageDescription.matchFilename(languages, path.split("/").pop() ?? path);
    // A language that cannot be had, cut off as we may be, leaves the text plain.
    void language?.load().then(
      (l) => this.view.dispatch({ effects: this.language.reconfigure(l) }),
      () => undefined,
    );
  }

  /** What is kept of an editor until it is there again: its text, its selection, what can be undone. */
  kept(): unknown {
    return this.view.state.toJSON({ history: historyField });
  }

  text(): string {
    return this.view.state.sliceDoc();
  }

  setLook(look: Extension, fontPixels: number) {
    this.view.dispatch({ effects: this.look.reconfigure([look, EditorView.theme({ "&": { fontSize: `${fontPixels}px` } })]) });
  }

  setManner(how: Manner) {
    this.how = how;
    const rulers = (how.rulers ?? []).filter((n) => n > 0 && n < 1000).slice(0, 4);
    this.view.dispatch({
      effects: this.manner.reconfigure([
        how.tabSize ? EditorState.tabSize.of(how.tabSize) : [],
        how.tabs || how.tabSize ? indentUnit.of(how.tabs ? "\t" : " ".repeat(how.tabSize ?? 2)) : [],
        rulers.length > 0
          ? EditorView.theme({
              ".cm-content": {
                backgroundImage: rulers.map(() => "linear-gradient(rgb(120 130 140 / 35%), rgb(120 130 140 / 35%))").join(","),
                backgroundSize: "1px 100%",
                backgroundRepeat: "no-repeat",
                backgroundPosition: rulers.map((n) => `calc(6px + ${n}ch) 0`).join(","),
              },
            })
          : [],
      ]),
    });
  }

  /** setMore has further extensions in it: what a language server knows, where a program stands. */
  setMore(more: Extension) {
    this.view.dispatch({ effects: this.more.reconfigure(more) });
  }

  /** setStops has break points in it, before the lines' numbers. */
  setStops(stops: Extension) {
    this.view.dispatch({ effects: this.stops.reconfigure(stops) });
  }

  /** tidy does what is to be done before it is saved, as one change that can be undone. */
  tidy() {
    const { state } = this.view;
    const changes = [];
    if (this.how.trim)
      for (let n = 1; n <= state.doc.lines; n++) {
        const line = state.doc.line(n);
        const blanks = /[ \t]+$/.exec(line.text)?.[0].length ?? 0;
        if (blanks > 0) changes.push({ from: line.to - blanks, to: line.to });
      }
    if (this.how.finalNewline && state.doc.length > 0 && state.doc.line(state.doc.lines).length > 0) changes.push({ from: state.doc.length, insert: state.lineBreak });
    if (changes.length > 0) this.view.dispatch({ changes, userEvent: "input.tidy" });
  }

  /** put has another text in it, changing what differs alone: the selection stays where it was. */
  put(text: string) {
    const old = this.text();
    if (old === text) return;
    let from = 0;
    while (from < old.length && from < text.length && old[from] === text[from]) from++;
    let end = 0;
    while (end < old.length - from && end < text.length - from && old[old.length - 1 - end] === text[text.length - 1 - end]) end++;
    const breaks = (s: string) => this.view.state.toText(s);
    const at = (n: number) => breaks(old.slice(0, n)).length;
    this.view.dispatch({ changes: { from: at(from), to: at(old.length - end), insert: breaks(text.slice(from, text.length - end)) }, userEvent: "input.disk" });
  }

  /** against shows how the text differs from another, each place to be kept or given up; undefined ends that. */
  against(theirs: string | undefined) {
    this.view.dispatch({ effects: this.merge.reconfigure(theirs === undefined ? [] : unifiedMergeView({ original: this.view.state.toText(theirs), mergeControls: true })) });
  }

  /** goTo has a line in sight, and the caret in it. */
  goTo(line: number, focus = true) {
    const { doc } = this.view.state;
    const at = doc.line(Math.min(Math.max(1, line), doc.lines));
    this.view.dispatch({ selection: EditorSelection.cursor(at.from), effects: EditorView.scrollIntoView(at.from, { y: "center" }) });
    if (focus) this.view.focus();
  }

  end() {
    this.view.destroy();
  }
}
