import { RangeSet, StateEffect, StateField, type Extension } from "@codemirror/state";
import { Told } from "./told";
import { EditorView, gutter, GutterMarker, keymap, Decoration, type DecorationSet, showDialog } from "@codemirror/view";
import * as say from "words/bench/breakpoints";

/** A line at which a program stops, if its condition holds. */
export interface Breakpoint {
  line: number;
  condition?: string;
}

function keptPoints(key: string): ReadonlyMap<string, Breakpoint[]> {
  try {
    const kept = JSON.parse(localStorage.getItem(key) ?? "[]") as [string, Breakpoint[]][];
    return new Map(kept.map(([path, points]) => [path, points.filter((p) => p.line > 0).map((p) => ({ line: p.line, ...(p.condition ? { condition: String(p.condition) } : {}) }))]));
  } catch {
    return new Map();
  }
}

/** The break points of a workspace, by file, kept in the browser. */
export class Breakpoints extends Told<ReadonlyMap<string, Breakpoint[]>> {
  private readonly key: string;

  constructor(id: string) {
    const key = `yardbench.breakpoints.${id}`;
    super(keptPoints(key));
    this.key = key;
  }

  of(path: string): Breakpoint[] {
    return this.standing.get(path) ?? [];
  }

  put(path: string, points: Breakpoint[]) {
    const all = new Map(this.standing);
    if (points.length > 0) all.set(path, points);
    else all.delete(path);
    try {
      localStorage.setItem(this.key, JSON.stringify([...all]));
    } catch {
      // They hold for this page then.
    }
    this.stand(all);
  }
}

class Dot extends GutterMarker {
  constructor(readonly condition?: string) {
    super();
  }
  override eq(other: Dot) {
    return other.condition === this.condition;
  }
  override toDOM() {
    const dot = document.createElement("span");
    dot.className = this.condition ? "break-point conditional" : "break-point";
    dot.title = this.condition ? say.stopsWhere(this.condition) : say.stopsHere();
    dot.textContent = this.condition ? "◆" : "●";
    return dot;
  }
}

const put = StateEffect.define<Breakpoint[]>();
const standAt = StateEffect.define<number | undefined>();

const dots = StateField.define<RangeSet<Dot>>({
  create: () => RangeSet.empty,
  update(set, tr) {
    let now = set.map(tr.changes);
    for (const e of tr.effects)
      if (e.is(put)) {
        const { doc } = tr.state;
        now = RangeSet.of(
          e.value.filter((p) => p.line <= doc.lines).map((p) => new Dot(p.condition).range(doc.line(p.line).from)),
          true,
        );
      }
    return now;
  },
});

const standing = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(set, tr) {
    let now = set.map(tr.changes);
    for (const e of tr.effects)
      if (e.is(standAt)) {
        const { doc } = tr.state;
        now = e.value && e.value <= doc.lines ? Decoration.set(Decoration.line({ class: "stands-here" }).range(doc.line(e.value).from)) : Decoration.none;
      }
    return now;
  },
  provide: (f) => EditorView.decorations.from(f),
});

/** stopping is an extension by which break points of a file are set, and the line where a program stands is shown. */
export function stopping(points: Breakpoints, path: string): Extension {
  const told = (view: EditorView): Breakpoint[] => {
    const found: Breakpoint[] = [];
    const set = view.state.field(dots);
    for (const i = set.iter(); i.value; i.next()) {
      const line = view.state.doc.lineAt(i.from).number;
      if (found.at(-1)?.line !== line) found.push({ line, ...(i.value.condition ? { condition: i.value.condition } : {}) });
    }
    return found;
  };
  const toggle = (line: number, condition?: string) => {
    const old = points.of(path);
    const there = old.some((p) => p.line === line);
    const rest = old.filter((p) => p.line !== line);
    points.put(path, there && condition === undefined ? rest : [...rest, { line, ...(condition ? { condition } : {}) }].sort((a, b) => a.line - b.line));
  };
  const ask = (view: EditorView, line: number) => {
    const { close, result } = showDialog(view, { label: say.stopInLineWhere(line), input: { name: "condition", value: points.of(path).find((p) => p.line === line)?.condition ?? "" }, focus: true, submitLabel: say.set() });
    void result.then((form) => {
      view.dispatch({ effects: close });
      if (form) toggle(line, (form.elements.namedItem("condition") as HTMLInputElement).value.trim());
    });
  };
  return [
    dots,
    standing,
    gutter({
      class: "break-points",
      markers: (v) => v.state.field(dots),
      initialSpacer: () => new Dot(),
      domEventHandlers: {
        mousedown: (view, block, e) => {
          const line = view.state.doc.lineAt(block.from).number;
          if ((e as MouseEvent).button === 2 || (e as MouseEvent).ctrlKey) ask(view, line);
          else toggle(line);
          return true;
        },
        contextmenu: () => true,
      },
    }),
    keymap.of([
      { key: "Alt-p", preventDefault: true, run: (v) => (toggle(v.state.doc.lineAt(v.state.selection.main.head).number), true) },
      { key: "Alt-Shift-p", preventDefault: true, run: (v) => (ask(v, v.state.doc.lineAt(v.state.selection.main.head).number), true) },
    ]),
    EditorView.updateListener.of((u) => {
      if (!u.docChanged) return;
      const now = told(u.view);
      if (JSON.stringify(now) !== JSON.stringify(points.of(path))) points.put(path, now);
    }),
  ];
}

/** showPoints has the break points of a file shown in its editor. */
export const showPoints = (view: EditorView, all: Breakpoint[]) => view.dispatch({ effects: put.of(all) });

/** showPlace has the line where a program stands shown, or none. */
export const showPlace = (view: EditorView, line: number | undefined) => view.dispatch({ effects: standAt.of(line) });

const kept = new Map<string, Breakpoints>();

/** breakpointsOf are those of a workspace: the same for every board of the page. */
export function breakpointsOf(id: string): Breakpoints {
  let b = kept.get(id);
  if (!b) kept.set(id, (b = new Breakpoints(id)));
  return b;
}
