import { indentUnit } from "@codemirror/language";
import { forEachDiagnostic, lintGutter } from "@codemirror/lint";
import { closeReferencePanel, findReferences, hoverTooltips, jumpToDefinition, LSPClient, LSPPlugin, nextSignature, prevSignature, serverCompletion, serverDiagnostics, signatureHelp, Workspace, type WorkspaceFile } from "@codemirror/lsp-client";
import { EditorState, Prec, StateEffect, StateField, type Extension, type TransactionSpec } from "@codemirror/state";
import { EditorView, keymap, showDialog, showPanel, type Panel } from "@codemirror/view";
import DOMPurify from "dompurify";
import { read, write } from "../service/files";
import { Spoken, type Over } from "../service/bench";
import { Told } from "./told";
import { changesOf, editsOf, pathOf, uriOf, type Position, type TextEdit, type WorkspaceEdit } from "./edits";
import * as say from "words/bench/language";

/** How a language's program stands. */
export type ServerState = { is: "starting" } | { is: "serving"; name: string } | { is: "over"; why: Over };

/** What a language server is told of where it serves. */
export interface Ground {
  workspace: string; // its name and its owner's
  id: string;
  folder: string;
  open: (path: string, line: number) => void;
  tell: (what: string) => void;
}

// A program in a workspace is not believed: what it says is bounded, and what it
// says wrongly ends it after a while.
const messageMost = 4 << 20;
const diagnosticsMost = 1_000;
const liesMost = 50;
const triesMost = 4;
const servedLong = 60_000;
const answerMost = 20_000;

// What a program says of a name is shown as text with some marks, and reaches nothing.
const shown = { ALLOWED_TAGS: ["p", "pre", "code", "em", "strong", "ul", "ol", "li", "br", "hr", "h1", "h2", "h3", "h4", "span", "table", "tr", "td", "th", "thead", "tbody"], ALLOWED_ATTR: ["class"] };

interface Open extends WorkspaceFile {
  view: EditorView;
}

/** The files that are open on the bench, as one language's program knows them. */
class Files extends Workspace {
  files: Open[] = [];
  private readonly versions = new Map<string, number>();

  constructor(
    client: LSPClient,
    private readonly ground: Ground,
  ) {
    super(client);
  }

  private next(uri: string) {
    const n = (this.versions.get(uri) ?? -1) + 1;
    this.versions.set(uri, n);
    return n;
  }

  syncFiles() {
    const all = [];
    for (const file of this.files) {
      const plugin = LSPPlugin.get(file.view);
      if (!plugin || plugin.unsyncedChanges.empty) continue;
      const changes = plugin.unsyncedChanges;
      all.push({ file, prevDoc: file.doc, changes });
      file.doc = file.view.state.doc;
      file.version = this.next(file.uri);
      plugin.clear();
    }
    return all;
  }

  openFile(uri: string, languageId: string, view: EditorView) {
    this.files = this.files.filter((f) => f.uri !== uri);
    const file: Open = { uri, languageId, version: this.next(uri), doc: view.state.doc, view, getView: () => view };
    this.files.push(file);
    if (this.client.serverCapabilities) this.client.didOpen(file);
  }

  closeFile(uri: string, view: EditorView) {
    const file = this.files.find((f) => f.uri === uri && f.view === view);
    if (!file) return;
    this.files = this.files.filter((f) => f !== file);
    if (this.client.serverCapabilities) this.client.didClose(uri);
  }

  override connected() {
    void this.client.initializing.then(
      () => this.files.forEach((f) => this.client.didOpen(f)),
      () => undefined,
    );
  }

  override async displayFile(uri: string): Promise<EditorView | null> {
    const path = pathOf(uri);
    if (!path?.startsWith(`${this.ground.folder}/`)) {
      this.ground.tell(say.thatIsInOutside(path ?? uri));
      return null;
    }
    if (!this.getFile(uri)) this.ground.open(path, 0);
    for (let n = 0; n < 50; n++) {
      const there = this.files.find((f) => f.uri === uri);
      if (there) return there.view;
      await new Promise((r) => setTimeout(r, 100));
    }
    return null;
  }

  override updateFile(uri: string, update: TransactionSpec) {
    this.files.find((f) => f.uri === uri)?.view.dispatch(update);
  }
}

/** One language's program in one workspace, and what it knows of the files that are open. */
export class LanguageServer extends Told<ServerState> {
  private readonly client: LSPClient;
  private spoken: Spoken | undefined;
  private heard: ((m: string) => void) | undefined;
  private tries = 0;
  private since = 0; // when it began to serve
  private lies = 0;
  private users = 0;
  private rest: ReturnType<typeof setTimeout> | undefined;

  constructor(
    private readonly ground: Ground,
    private readonly language: string,
    private readonly program: string,
    private readonly gone: () => void,
  ) {
    super({ is: "starting" });
    this.client = new LSPClient({
      rootUri: uriOf(ground.folder),
      timeout: answerMost,
      workspace: (client) => new Files(client, ground),
      sanitizeHTML: (html) => DOMPurify.sanitize(html, shown),
      notificationHandlers: {
        "textDocument/publishDiagnostics": (_, params: { diagnostics?: { message?: string }[] }) => {
          const all = Array.isArray(params.diagnostics) ? params.diagnostics : [];
          params.diagnostics = all.slice(0, diagnosticsMost).map((d) => ({ ...d, message: String(d.message ?? "").slice(0, 2_000) }));
          return false; // the next one shows them
        },
        "window/showMessage": (_, params: { message?: string }) => (this.ground.tell(String(params.message ?? "").slice(0, 500)), true),
        "window/logMessage": () => true,
      },
      unhandledNotification: () => undefined,
      extensions: [
        serverCompletion(),
        hoverTooltips(),
        signatureHelp({ keymap: false }),
        serverDiagnostics(),
        lintGutter(),
        keymap.of([
          { key: "Escape", run: closeReferencePanel },
          { key: "Alt-PageDown", run: nextSignature },
          { key: "Alt-PageUp", run: prevSignature },
        ]),
      ],
    });
    this.begin();
  }

  private begin() {
    this.tries++;
    this.lies = 0;
    this.stand({ is: "starting" });
    const spoken: Spoken = new Spoken(
      this.ground.workspace,
      "languages",
      this.language,
      (m) => spoken === this.spoken && this.take(m),
      (why) => spoken === this.spoken && this.ended(why),
    );
    this.spoken = spoken;
    this.client.connect({ send: (m) => spoken.say(m), subscribe: (h) => void (this.heard = h), unsubscribe: () => void (this.heard = undefined) });
    this.client.initializing.then(
      () => {
        if (spoken !== this.spoken) return;
        this.since = Date.now();
        this.stand({ is: "serving", name: this.program });
      },
      () => undefined,
    );
  }

  private ended(why: Over | undefined) {
    this.client.disconnect();
    if (this.since > 0 && Date.now() - this.since > servedLong) this.tries = 0; // it is no program that cannot
    this.since = 0;
    const lasting = why?.status === 404 || why?.status === 403;
    if (this.users > 0 && !lasting && this.tries < triesMost) {
      setTimeout(() => this.users > 0 && this.begin(), 1_000 * 2 ** this.tries);
      this.stand({ is: "starting" });
    } else this.stand({ is: "over", why: why ?? { detail: say.theConnectionToIt() } });
  }

  /** again begins it anew, after it had ended. */
  again() {
    this.tries = 0;
    this.begin();
  }

  // What asks us is answered here; the rest is the client's.
  private take(message: string) {
    if (message.length > messageMost) return;
    let m: { id?: unknown; method?: string; params?: { edit?: WorkspaceEdit; items?: unknown[] } };
    try {
      m = JSON.parse(message) as typeof m;
      if (typeof m !== "object" || m === null) throw new TypeError();
      if (m.method === undefined || m.id === undefined) return this.heard?.(message);
    } catch {
      // It lies: a place that is not there, an answer that is none.
      if (++this.lies > liesMost) {
        this.spoken?.close();
        this.client.disconnect();
        this.stand({ is: "over", why: { detail: say.saysWhatCannotBe(this.program) } });
      }
      return;
    }
    const answer = (result: unknown) => this.spoken?.say(JSON.stringify({ jsonrpc: "2.0", id: m.id, result }));
    switch (m.method) {
      case "workspace/applyEdit":
        void this.apply(m.params?.edit ?? {}).then((applied) => answer({ applied }));
        break;
      case "workspace/configuration":
        answer((m.params?.items ?? []).slice(0, 100).map(() => null));
        break;
      case "workspace/workspaceFolders":
        answer([{ uri: uriOf(this.ground.folder), name: this.ground.folder.split("/").pop() }]);
        break;
      default:
        answer(null);
    }
  }

  /** use is an extension for the editor of one file, for as long as it is used. */
  use(path: string): { extension: Extension; end: () => void } {
    this.users++;
    clearTimeout(this.rest);
    return {
      extension: [this.client.plugin(uriOf(path), this.language), actions, Prec.high(keymap.of(this.asks.map((a) => ({ key: a.key, preventDefault: true, run: a.run }))))],
      end: () => {
        if (--this.users > 0) return;
        // Another file of the language may be opened in a moment.
        this.rest = setTimeout(() => {
          this.spoken?.close();
          this.client.disconnect();
          this.gone();
        }, 60_000);
      },
    };
  }

  /** What it may be asked about the place one is at. */
  readonly asks: { key: string; what: string; run: (v: EditorView) => boolean }[] = [
    { key: "Alt-.", what: say.whereItIsDefined(), run: jumpToDefinition },
    { key: "Alt-,", what: say.whatUsesIt(), run: findReferences },
    { key: "Alt-n", what: say.anotherNameForIt(), run: (v) => this.rename(v) },
    { key: "Alt-o", what: say.whatMayBeDone(), run: (v) => (void this.offer(v), true) },
    { key: "Alt-q", what: say.writeTheFileAnew(), run: (v) => (void this.format(v, true), true) },
  ];

  saved(path: string) {
    if (this.client.serverCapabilities) this.client.notification("textDocument/didSave", { textDocument: { uri: uriOf(path) } });
  }

  /** changed tells that a file is another one on the disk. */
  changed(path: string) {
    if (this.client.serverCapabilities) this.client.notification("workspace/didChangeWatchedFiles", { changes: [{ uri: uriOf(path), type: 2 }] });
  }

  private async ask<T>(method: string, params: unknown): Promise<T | undefined> {
    if (!this.client.serverCapabilities) return undefined;
    this.client.sync();
    return (await this.client.request<unknown, T | null>(method, params)) ?? undefined;
  }

  /** symbols are those of a file, or of all where the program knows. */
  async symbols(path: string): Promise<{ name: string; line: number; kind: number }[]> {
    interface Symbol {
      name: string;
      kind: number;
      range?: { start: Position };
      location?: { range: { start: Position } };
      children?: Symbol[];
    }
    const flat = (all: Symbol[], depth: number): { name: string; line: number; kind: number }[] => all.flatMap((s) => [{ name: "  ".repeat(depth) + String(s.name).slice(0, 200), line: ((s.range ?? s.location?.range)?.start.line ?? 0) + 1, kind: s.kind }, ...(depth < 8 ? flat(s.children ?? [], depth + 1) : [])]);
    const got = await this.ask<Symbol[]>("textDocument/documentSymbol", { textDocument: { uri: uriOf(path) } }).catch(() => undefined);
    return Array.isArray(got) ? flat(got, 0).slice(0, 2_000) : [];
  }

  /** format has the program write an editor's text anew; asked by hand, it says where it changes nothing. */
  async format(view: EditorView, byHand = false): Promise<void> {
    const plugin = LSPPlugin.get(view);
    if (!plugin || !this.client.serverCapabilities?.documentFormattingProvider) return;
    const before = view.state.doc;
    const edits = await this.ask<TextEdit[]>("textDocument/formatting", { textDocument: { uri: plugin.uri }, options: { tabSize: view.state.tabSize, insertSpaces: view.state.facet(indentUnit) !== "\t" } }).catch((e: unknown) => {
      this.ground.tell(say.itWasNotFormatted(said(e)));
      return undefined;
    });
    if (byHand && !edits?.length) this.ground.tell(say.changesNothingInIt(this.program));
    if (edits && view.state.doc === before) edit(view, edits);
  }

  private rename(view: EditorView): boolean {
    const word = view.state.wordAt(view.state.selection.main.head);
    const plugin = LSPPlugin.get(view);
    if (!word || !plugin) return false;
    const { close, result } = showDialog(view, { label: say.anotherName(), input: { name: "name", value: view.state.sliceDoc(word.from, word.to) }, focus: true, submitLabel: say.rename() });
    void result.then(async (form) => {
      view.dispatch({ effects: close });
      const name = form && (form.elements.namedItem("name") as HTMLInputElement).value.trim();
      if (!name) return;
      try {
        const got = await this.ask<WorkspaceEdit>("textDocument/rename", { textDocument: { uri: plugin.uri }, position: plugin.toPosition(word.from), newName: name });
        if (!got || !(await this.apply(got))) this.ground.tell(say.itWasNotRenamed());
      } catch (e) {
        this.ground.tell(say.itWasNotRenamedOfE(said(e)));
      }
    });
    return true;
  }

  // What may be done about the place one is at.
  private async offer(view: EditorView) {
    const plugin = LSPPlugin.get(view);
    if (!plugin) return;
    const { from, to } = view.state.selection.main;
    const diagnostics: unknown[] = [];
    forEachDiagnostic(view.state, (d, a, b) => {
      if (a <= to && b >= from) diagnostics.push({ range: { start: plugin.toPosition(a), end: plugin.toPosition(b) }, message: d.message });
    });
    try {
      const got = (await this.ask<Action[]>("textDocument/codeAction", { textDocument: { uri: plugin.uri }, range: { start: plugin.toPosition(from), end: plugin.toPosition(to) }, context: { diagnostics } })) ?? [];
      const all = (Array.isArray(got) ? got : []).slice(0, 50).map((a) => ({ title: String(a.title).slice(0, 200), run: () => void this.act(a) }));
      if (all.length === 0) this.ground.tell(say.hasNothingToOffer(this.program));
      else view.dispatch({ effects: offered.of(all) });
    } catch (e) {
      this.ground.tell(said(e));
    }
  }

  private async act(a: Action) {
    try {
      if (a.edit && !(await this.apply(a.edit))) throw new Error(say.itsEditDoesNot());
      const command = typeof a.command === "string" ? { command: a.command, arguments: a.arguments } : a.command;
      if (command) await this.ask("workspace/executeCommand", command);
    } catch (e) {
      this.ground.tell(say.itWasNotDone(said(e)));
    }
  }

  /** apply writes an edit into the files that are open, and into others of the workspace. */
  private async apply(of: WorkspaceEdit): Promise<boolean> {
    const all = editsOf(of);
    if (!all || all.size > 1_000) return false;
    for (const [uri, edits] of all) {
      const file = this.client.workspace.getFile(uri);
      const view = file?.getView();
      if (view) {
        if (!edit(view, edits)) return false;
        continue;
      }
      const path = pathOf(uri);
      if (!path?.startsWith(`${this.ground.folder}/`)) return false;
      const got = await read(this.ground.workspace, path);
      const state = EditorState.create({ doc: new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(got.bytes), extensions: EditorState.lineSeparator.of("\n") });
      const changes = changesOf(state.doc, edits);
      if (!changes) return false;
      await write(this.ground.workspace, path, state.update({ changes }).state.sliceDoc(), got.tag);
    }
    return true;
  }
}

interface Action {
  title: string;
  edit?: WorkspaceEdit;
  command?: string | { command: string; arguments?: unknown[] };
  arguments?: unknown[];
}

const said = (e: unknown) => (e instanceof Error ? e.message : typeof e === "object" && e && "message" in e ? String(e.message) : String(e)).slice(0, 300);

function edit(view: EditorView, edits: TextEdit[]): boolean {
  const changes = changesOf(view.state.doc, edits);
  if (changes) view.dispatch({ changes, userEvent: "input.server" });
  return changes !== undefined;
}

type Offered = { title: string; run: () => void }[];
const offered = StateEffect.define<Offered>();

/** What a program offers to do, below the text, until one is chosen or none. */
const actions = StateField.define<Offered>({
  create: () => [],
  update: (value, tr) => tr.effects.reduce((v, e) => (e.is(offered) ? e.value : v), tr.docChanged ? [] : value),
  provide: (field) =>
    showPanel.from(field, (all) =>
      all.length === 0
        ? null
        : (view): Panel => {
            const dom = document.createElement("div");
            dom.className = "offers";
            const close = () => {
              view.dispatch({ effects: offered.of([]) });
              view.focus();
            };
            dom.addEventListener("keydown", (e) => e.key === "Escape" && close());
            for (const a of all) {
              const b = dom.appendChild(document.createElement("button"));
              b.className = "cm-button";
              b.textContent = a.title;
              b.onclick = () => (close(), a.run());
            }
            const none = dom.appendChild(document.createElement("button"));
            none.className = "cm-button";
            none.textContent = say.noneOfThese();
            none.onclick = close;
            return { dom, mount: () => dom.querySelector("button")?.focus() };
          },
    ),
});

const servers = new Map<string, LanguageServer>();

/** serverOf is the program of a language in a workspace: one for all files of the page. */
export function serverOf(ground: Ground, language: string, program: string): LanguageServer {
  const key = `${ground.id} ${language}`;
  let s = servers.get(key);
  if (!s) {
    s = new LanguageServer(ground, language, program, () => servers.delete(key));
    servers.set(key, s);
  }
  return s;
}

/** serversOf are those that serve in a workspace now. */
export const serversOf = (id: string): LanguageServer[] => [...servers].filter(([k]) => k.startsWith(`${id} `)).map(([, s]) => s);
