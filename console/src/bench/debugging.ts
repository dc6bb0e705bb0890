import { Spoken, type Debugging as Configuration } from "../service/bench";
import { runInTerminal } from "../service/terminals";
import { Breakpoints, breakpointsOf } from "./breakpoints";
import { Told } from "./told";
import * as say from "words/bench/debugging";

/** One place of a program's stack. */
export interface Frame {
  id: number;
  name: string;
  path?: string;
  line: number;
}

/** A variable, or a part of one: with a reference there is more in it. */
export interface Variable {
  name: string;
  value: string;
  type?: string;
  reference: number;
}

/** How debugging stands. */
export interface Standing {
  is: "no" | "begins" | "runs" | "stopped" | "over";
  name?: string;
  why?: string; // it stopped, or is over
  thread?: number;
  frames: Frame[];
  frame?: number; // the one that is looked at
  scopes: Variable[];
  watches: { expression: string; value?: string; problem?: string; reference: number }[];
  output: string;
  terminal?: string; // the label of the program's own terminal
}

// An adapter in a workspace is not believed: what it says is bounded.
const outputMost = 200_000;
const framesMost = 200;
const variablesMost = 1_000;
const valueMost = 2_000;
const messageMost = 4 << 20;
const answerMost = 30_000;

interface Message {
  type?: string;
  event?: string;
  command?: string;
  seq?: number;
  request_seq?: number;
  success?: boolean;
  message?: string;
  body?: Record<string, unknown>;
  arguments?: Record<string, unknown>;
}

const nothing: Standing = { is: "no", frames: [], scopes: [], watches: [], output: "" };
const short = (v: unknown) => String(v ?? "").slice(0, valueMost);
const list = (v: unknown): Record<string, unknown>[] => (Array.isArray(v) ? (v.filter((x) => typeof x === "object" && x) as Record<string, unknown>[]) : []);

/**
 * Debugger debugs one program of a workspace, by the Debug Adapter Protocol. It stands
 * outside of React: boards show how it stands.
 */
export class Debugger extends Told<Standing> {
  readonly points: Breakpoints;
  private spoken: Spoken | undefined;
  private seq = 0;
  private round = 0;
  private can: Record<string, unknown> = {};
  private readonly waits = new Map<number, { yes: (body: Record<string, unknown>) => void; no: (e: Error) => void }>();
  private begun: { configuration: Configuration; file?: string } | undefined;
  private sent = new Set<string>(); // files whose break points the adapter knows

  constructor(
    private readonly workspace: string,
    private readonly folder: string,
    id: string,
  ) {
    super(nothing);
    this.points = breakpointsOf(id);
    this.points.subscribe(() => void this.setPoints().catch(() => undefined));
  }

  private set(some: Partial<Standing>) {
    this.stand({ ...this.standing, ...some });
  }

  /** begin begins debugging, in place of what is debugged. File is the one that somebody looks at. */
  begin(configuration: Configuration, file?: string) {
    this.leave();
    this.begun = { configuration, file };
    this.sent = new Set();
    this.round++;
    this.set({ ...nothing, is: "begins", name: configuration.name, watches: this.standing.watches.map((w) => ({ expression: w.expression, reference: 0 })) });
    const spoken: Spoken = new Spoken(
      this.workspace,
      "debuggers",
      configuration.adapter,
      (m) => spoken === this.spoken && this.take(m),
      (why) => spoken === this.spoken && this.over(why && [why.detail, why.next].filter(Boolean).join("; ")),
      configuration.port ? `?port=${configuration.port}` : "",
    );
    this.spoken = spoken;
    void this.open(configuration).catch((e: unknown) => spoken === this.spoken && this.over(e instanceof Error ? e.message : String(e)));
  }

  again() {
    if (this.begun) this.begin(this.begun.configuration, this.begun.file);
  }

  private async open({ adapter, request, with: given }: Configuration) {
    this.can = await this.ask("initialize", { clientID: "yardbench", clientName: "Yard Bench", adapterID: adapter, linesStartAt1: true, columnsStartAt1: true, pathFormat: "path", supportsRunInTerminalRequest: true, supportsVariableType: true });
    const of = this.filled(given) as Record<string, unknown>;
    of.cwd ??= this.folder;
    if (typeof of.program === "string" && !of.program.startsWith("/")) of.program = `${String(of.cwd)}/${of.program}`;
    // The program's own terminal takes what is typed; without one it has no input.
    if (adapter === "python" && request === "launch") of.console ??= "integratedTerminal";
    await this.ask(request, of, 0);
  }

  // Names of what is meant stand in a configuration as they do in a definition.
  private filled(v: unknown): unknown {
    if (typeof v === "string") return v.replace(/\$\{(workspaceFolder|containerWorkspaceFolder|file)\}/g, (_, name: string) => (name === "file" ? (this.begun?.file ?? "") : this.folder));
    if (Array.isArray(v)) return v.map((x) => this.filled(x));
    if (typeof v === "object" && v) return Object.fromEntries(Object.entries(v).map(([k, x]) => [k, this.filled(x)]));
    return v;
  }

  private say(m: Message) {
    this.spoken?.say(JSON.stringify({ ...m, seq: ++this.seq }));
    return this.seq;
  }

  private ask(command: string, args: Record<string, unknown> = {}, within = answerMost): Promise<Record<string, unknown>> {
    return new Promise((yes, no) => {
      const seq = this.say({ type: "request", command, arguments: args });
      const late = within ? setTimeout(() => (this.waits.delete(seq), no(new Error(say.theAdapterDoesNot(command)))), within) : undefined;
      this.waits.set(seq, { yes: (b) => (clearTimeout(late), yes(b)), no: (e) => (clearTimeout(late), no(e)) });
    });
  }

  private take(text: string) {
    if (text.length > messageMost) return;
    let m: Message;
    try {
      m = JSON.parse(text) as Message;
      if (typeof m !== "object" || m === null) return;
    } catch {
      return;
    }
    if (m.type === "response" && m.request_seq !== undefined) {
      const wait = this.waits.get(m.request_seq);
      this.waits.delete(m.request_seq);
      if (m.success) wait?.yes(m.body ?? {});
      else {
        const error = m.body?.error as { format?: string } | undefined;
        wait?.no(new Error(short(error?.format ?? m.message ?? say.theAdapterRefuses())));
      }
    } else if (m.type === "request") void this.asked(m);
    else if (m.type === "event") this.happened(m.event ?? "", m.body ?? {});
  }

  // What the adapter asks: the program in a terminal of its own.
  private async asked(m: Message) {
    const answer = (success: boolean, body: Record<string, unknown>, message?: string) => this.say({ type: "response", request_seq: m.seq, command: m.command, success, body, message });
    if (m.command !== "runInTerminal") return answer(false, {}, say.notKnownHere());
    const args = m.arguments ?? {};
    const argv = Array.isArray(args.args) ? args.args.map(String) : [];
    const env = Object.fromEntries(Object.entries((args.env ?? {}) as Record<string, unknown>).filter(([, v]) => typeof v === "string")) as Record<string, string>;
    try {
      const terminal = await runInTerminal(this.workspace, argv, String(args.cwd ?? this.folder), env);
      this.set({ terminal });
      answer(true, {});
    } catch (e) {
      answer(false, {}, e instanceof Error ? e.message : String(e));
    }
  }

  private happened(event: string, body: Record<string, unknown>) {
    switch (event) {
      case "initialized":
        void this.configure().catch((e: unknown) => this.print(`${String(e)}\n`));
        break;
      case "stopped":
        void this.stopped(Number(body.threadId ?? 0), short(body.description ?? body.reason) + (body.text ? `: ${short(body.text)}` : ""));
        break;
      case "continued":
        this.set({ is: "runs", frames: [], scopes: [], frame: undefined, why: undefined });
        break;
      case "output":
        if (body.category !== "telemetry") this.print(short(body.output));
        break;
      case "exited":
        this.print(say.itEndedWith(Number(body.exitCode ?? 0)));
        break;
      case "terminated":
        this.over(undefined);
        break;
    }
  }

  private print(text: string) {
    this.set({ output: (this.standing.output + text).slice(-outputMost) });
  }

  private async configure() {
    await this.setPoints();
    const filters = list(this.can.exceptionBreakpointFilters)
      .filter((f) => f.default)
      .map((f) => String(f.filter));
    await this.ask("setExceptionBreakpoints", { filters }).catch(() => undefined);
    if (this.can.supportsConfigurationDoneRequest) await this.ask("configurationDone");
    if (this.standing.is === "begins") this.set({ is: "runs" });
  }

  private async setPoints() {
    if (this.standing.is === "no" || this.standing.is === "over" || !this.spoken) return;
    const all = this.points.now();
    for (const path of new Set([...all.keys(), ...this.sent])) {
      this.sent.add(path);
      await this.ask("setBreakpoints", { source: { path }, breakpoints: this.points.of(path).map((p) => ({ line: p.line, ...(p.condition ? { condition: p.condition } : {}) })) });
    }
  }

  private async stopped(thread: number, why: string) {
    const round = this.round;
    try {
      const got = await this.ask("stackTrace", { threadId: thread, startFrame: 0, levels: framesMost });
      const frames = list(got.stackFrames)
        .slice(0, framesMost)
        .map((f) => ({ id: Number(f.id), name: short(f.name), line: Number(f.line ?? 0), path: typeof (f.source as { path?: unknown } | undefined)?.path === "string" ? (f.source as { path: string }).path : undefined }));
      if (round !== this.round) return;
      this.set({ is: "stopped", why, thread, frames, scopes: [] });
      await this.look(frames[0]?.id);
    } catch (e) {
      this.print(`${String(e)}\n`);
    }
  }

  /** look looks at a place of the stack. */
  async look(frame: number | undefined) {
    this.set({ frame, scopes: [] });
    if (frame === undefined) return;
    const got = await this.ask("scopes", { frameId: frame });
    const scopes = list(got.scopes)
      .slice(0, 20)
      .map((s) => ({ name: short(s.name), value: "", reference: Number(s.variablesReference ?? 0) }));
    if (this.standing.frame === frame) this.set({ scopes });
    await this.lookAgain();
  }

  /** parts are what is in a variable. */
  async parts(reference: number): Promise<Variable[]> {
    const got = await this.ask("variables", { variablesReference: reference, count: variablesMost });
    return list(got.variables)
      .slice(0, variablesMost)
      .map((v) => ({ name: short(v.name), value: short(v.value), type: v.type === undefined ? undefined : short(v.type), reference: Number(v.variablesReference ?? 0) }));
  }

  watch(expression: string) {
    if (!expression || this.standing.watches.some((w) => w.expression === expression)) return;
    this.set({ watches: [...this.standing.watches, { expression, reference: 0 }].slice(-50) });
    void this.lookAgain();
  }

  unwatch(expression: string) {
    this.set({ watches: this.standing.watches.filter((w) => w.expression !== expression) });
  }

  private async lookAgain() {
    const frame = this.standing.frame;
    if (this.standing.is !== "stopped" || frame === undefined) return;
    for (const { expression } of this.standing.watches) {
      const now = await this.ask("evaluate", { expression, frameId: frame, context: "watch" }).then(
        (b) => ({ expression, value: short(b.result), reference: Number(b.variablesReference ?? 0) }),
        (e: unknown) => ({ expression, problem: e instanceof Error ? e.message : String(e), reference: 0 }),
      );
      if (this.standing.frame === frame) this.set({ watches: this.standing.watches.map((w) => (w.expression === expression ? now : w)) });
    }
  }

  /** evaluate has the program compute something where it stands. */
  async evaluate(expression: string) {
    this.print(`> ${expression}\n`);
    try {
      const got = await this.ask("evaluate", { expression, frameId: this.standing.frame, context: "repl" });
      this.print(`${short(got.result)}\n`);
    } catch (e) {
      this.print(`${e instanceof Error ? e.message : String(e)}\n`);
    }
  }

  /** step goes on: to the next line, into what is called, out of it, or to the next break point. */
  step(how: "continue" | "next" | "stepIn" | "stepOut" | "pause") {
    const { is, thread } = this.standing;
    if (how === "pause" ? is !== "runs" : is !== "stopped") return;
    if (how !== "pause") this.set({ is: "runs", frames: [], scopes: [], frame: undefined, why: undefined });
    void this.ask(how, { threadId: thread ?? 1 }).catch((e: unknown) => this.print(`${String(e)}\n`));
  }

  /** end ends the program and the debugging of it. */
  end() {
    if (this.standing.is === "no" || this.standing.is === "over") return;
    const spoken = this.spoken;
    const attached = this.begun?.configuration.request === "attach";
    void this.ask("disconnect", { terminateDebuggee: !attached }, 3_000)
      .catch(() => undefined)
      .then(() => spoken === this.spoken && this.over(say.youEndedIt()));
  }

  private over(why: string | undefined) {
    if (this.standing.is === "over") return;
    this.leave();
    this.set({ is: "over", why, frames: [], scopes: [], frame: undefined });
  }

  private leave() {
    this.spoken?.close();
    this.spoken = undefined;
    for (const w of this.waits.values()) w.no(new Error(say.itIsOver()));
    this.waits.clear();
  }
}

const debuggers = new Map<string, Debugger>();

/** debuggerOf is what debugs in a workspace: one for all boards of the page. */
export function debuggerOf(id: string, workspace: string, folder: string): Debugger {
  let d = debuggers.get(id);
  if (!d) debuggers.set(id, (d = new Debugger(workspace, folder, id)));
  return d;
}
