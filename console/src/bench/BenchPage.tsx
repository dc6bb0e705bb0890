import { CloseOutlined } from "@ant-design/icons";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Spin } from "antd";
import { lazy, Suspense, useCallback, useEffect, useEffectEvent, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { nameOf, type Workspace, type Me } from "../api/client";
import { Boundary } from "../parts/Boundary";
import { DayStrip } from "../parts/DayStrip";
import { LogView } from "../parts/LogView";
import { ProblemNote } from "../parts/ProblemNote";
import { SheetView } from "../parts/SheetView";
import { State } from "../parts/State";
import { when } from "words/times";
import type { TextPlace } from "../parts/TerminalView";
import { Actions } from "../parts/WorkspaceActions";
import { bench, type BenchOf } from "../service/bench";
import { changes } from "../service/changes";
import { keep, kept } from "../service/kept";
import { watch, type FileChange } from "../service/files";
import { whileSeen } from "../service/seen";
import { terminals } from "../service/terminals";
import { ports, sheet, workspace } from "../service/workspaces";
import { absolute, addressOf, boardsMost, closed, layoutOf, lists, opened, places, searchOf, titleOf, under, type Board, type Layout, type ListName } from "./boards";
import { ChangeBoard } from "./ChangeBoard";
import { ChangesList } from "./ChangesList";
import type { Manner } from "./editor";
import { FilesList } from "./FilesList";
import { DebugBoard } from "./DebugBoard";
import { debuggerOf } from "./debugging";
import { DebugList } from "./DebugList";
import { FindLine } from "./FindLine";
import { BenchKeys } from "./Keys";
import { PortBoard } from "./PortBoard";
import { PortsList } from "./PortsList";
import { SearchList } from "./SearchList";
import { TerminalsList } from "./TerminalsList";
import "./bench.css";
import * as say from "words/bench/BenchPage";

const TerminalView = lazy(() => import("../parts/TerminalView").then((m) => ({ default: m.TerminalView })));
const FileBoard = lazy(() => import("./FileBoard").then((m) => ({ default: m.FileBoard })));

const firstTerminal = "main";
const names: Record<ListName, string> = { files: say.files(), changes: say.changes(), terminals: say.terminals(), ports: say.ports(), debug: say.debug(), search: say.search() };

/** With Alt, how a program that stands goes on. */
const steps: Record<string, "continue" | "next" | "stepIn" | "stepOut"> = { g: "continue", j: "next", i: "stepIn", u: "stepOut" };

/** letterOf is the letter of a key, also where Alt has it type something else. */
const letterOf = (e: KeyboardEvent) => (/^[a-z]$/i.test(e.key) ? e.key : e.code.replace(/^Key/, "")).toLowerCase();

/** mannerOf is how the definition wants files to be written. */
const mannerOf = (b: BenchOf | undefined): Manner => (b ? { tabSize: b.editor.tab_size, tabs: b.editor.tabs, rulers: b.editor.rulers, trim: b.editor.trim, finalNewline: b.editor.final_newline, formatOnSave: b.editor.format_on_save } : {});

/** Under what the layout is kept that somebody had last in a workspace. */
const lastKey = (id: string) => `bench.${id}`;

/** The bench: the work area of one workspace. Its layout is the address bar. */
export function BenchPage({ person }: { person: Me }) {
  const { name = "" } = useParams();
  const one = useQuery(workspace(name));
  const likes = useQuery(kept); // where they were last; without it, it begins anew
  if (likes.isPending) return <Spin />;
  if (!one.data) return one.error ? <ProblemNote error={one.error} /> : <Spin />;
  return <Bench key={one.data.id} workspace={one.data} problem={one.error} person={person} />;
}

function Bench({ workspace: w, problem, person }: { workspace: Workspace; problem: unknown; person: Me }) {
  const name = nameOf(w);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const layout = useMemo(() => layoutOf(search), [search]);
  const [dirty, setDirty] = useState<ReadonlySet<string>>(new Set());
  const [finding, setFinding] = useState(false);
  const [keys, setKeys] = useState(false);
  const frames = useRef<(HTMLElement | null)[]>([]);
  const own = w.owner === person.name;
  const settings = useQuery({ ...bench(name), enabled: w.phase === "ready" && own });
  const manner = useMemo(() => mannerOf(settings.data), [settings.data]);
  const put = useCallback((l: Layout, replace = false) => void navigate(`?${searchOf(l)}`, { replace }), [navigate]);
  const open = useCallback((b: Board, beside = false) => put(opened(layoutOf(new URLSearchParams(location.search)), b.kind === "file" ? { ...b, path: under(b.path, w.folder) } : b, beside)), [put, w.folder]);
  const openFile = useCallback((path: string, line: number) => open({ kind: "file", path, ...(line > 0 ? { line } : {}) }, true), [open]);
  const focus = useEffectEvent((at: number) => {
    const b = frames.current[at];
    const into = b?.querySelector<HTMLElement>("textarea.xterm-helper-textarea, .cm-content, iframe") ?? b;
    into?.focus();
    if (at !== layout.at && at < layout.boards.length) put({ ...layout, at }, true);
  });

  // Without boards in the address there are those of the last time, or what the workspace is at.
  const begin = useEffectEvent(() => {
    if (search.has("board")) return;
    const last = layoutOf(new URLSearchParams(String(queries.getQueryData(kept.queryKey)?.[lastKey(w.id)] ?? "")));
    const start: Layout = last.boards.length > 0 ? last : { boards: [w.phase === "ready" ? { kind: "terminal", label: firstTerminal } : { kind: "sheet" }], at: 0, list: "files" };
    put({ ...start, list: search.get("list") ? layout.list : (start.list ?? layout.list) }, true);
  });
  useEffect(() => begin(), []);
  useEffect(() => {
    const now = String(searchOf(layout));
    if (layout.boards.length > 0 && queries.getQueryData(kept.queryKey)?.[lastKey(w.id)] !== now) keep(queries, lastKey(w.id), now);
  }, [layout, queries, w.id]);

  // What came up is worked in: the sheet that was looked at meanwhile turns into a terminal.
  const came = useEffectEvent(() => {
    const at = layout.boards.findIndex((b) => b.kind === "sheet");
    if (at >= 0 && own) put({ ...layout, at, boards: layout.boards.map((b, i) => (i === at ? { kind: "terminal", label: firstTerminal } : b)) }, true);
  });
  const before = useRef(w.phase);
  useEffect(() => {
    if (before.current !== "ready" && w.phase === "ready") came();
    before.current = w.phase;
  }, [w.phase]);

  // What changes in its folder is read again, each folder and file by itself, git's view of it after a moment.
  useEffect(() => {
    if (w.phase !== "ready" || !own) return;
    let later: ReturnType<typeof setTimeout> | undefined;
    const change = (c: FileChange) => {
      const again = (...key: unknown[]) => void queries.invalidateQueries({ queryKey: ["files", name, ...key] }, { cancelRefetch: false });
      if (c.anew || c.path === undefined) {
        again("folder");
        again("entry");
      } else {
        again("folder", c.path.includes("/") ? c.path.slice(0, c.path.lastIndexOf("/")) : "");
        again("entry", c.path);
        const path = c.path;
        void import("./language").then((m) => m.serversOf(w.id).forEach((s) => s.changed(absolute(path, w.folder))));
        if (/devcontainer[^/]*\.json$/.test(path)) void queries.invalidateQueries({ queryKey: ["bench", name] });
      }
      later ??= setTimeout(() => {
        later = undefined;
        void queries.invalidateQueries({ queryKey: ["changes", name] }, { cancelRefetch: false });
      }, 1_000);
    };
    const end = whileSeen((signal) => void watch(name, change, signal));
    return () => {
      end();
      clearTimeout(later);
    };
  }, [name, queries, w.phase, w.id, w.folder, own]);

  // Where a program stops is shown: its line comes into sight beside its variables.
  const d = debuggerOf(w.id, name, w.folder);
  const stoodAt = useCallback(
    (path: string, line: number) => {
      const l = layoutOf(new URLSearchParams(location.search));
      const none = !l.boards.some((b) => b.kind === "file");
      // The board of the program itself stays, whichever the file takes the place of.
      const at = none && l.boards.length === boardsMost ? l.boards.findIndex((b) => b.kind !== "debug") : l.at;
      put(opened({ ...l, at }, { kind: "file", path: under(path, w.folder), line }, none), true);
    },
    [put, w.folder],
  );
  useEffect(() => {
    let last: number | undefined;
    return d.subscribe(() => {
      const s = d.now();
      const f = s.is === "stopped" ? s.frames[0] : undefined;
      if (f?.path?.startsWith(`${w.folder}/`) && s.frame !== last) stoodAt(f.path, f.line);
      last = s.frame;
    });
  }, [d, w.folder, stoodAt]);

  const pressed = useEffectEvent((e: KeyboardEvent) => {
    const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(e.target.tagName));
    if (e.key === "F6") {
      e.preventDefault();
      const here = frames.current.findIndex((f) => f?.contains(document.activeElement));
      const all = layout.boards.length;
      const next = here < 0 ? (e.shiftKey ? all - 1 : 0) : here + (e.shiftKey ? -1 : 1);
      if (next < 0 || next >= all) document.querySelector<HTMLElement>(".bench-lists button[aria-pressed=true], .bench-lists button")?.focus();
      else focus(next);
    } else if (e.altKey && !e.ctrlKey && !e.metaKey && /^Digit[0-3]$/.test(e.code)) {
      e.preventDefault();
      if (e.code === "Digit0") setFinding(true);
      else focus(Number(e.code.slice(5)) - 1);
    } else if (e.altKey && !e.ctrlKey && !e.metaKey && steps[letterOf(e)] && d.now().is === "stopped") {
      e.preventDefault();
      d.step(steps[letterOf(e)]!);
    } else if (e.key === "?" && !typing) setKeys(true);
  });
  useEffect(() => {
    const listen = (e: KeyboardEvent) => pressed(e);
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);

  const place = (p: TextPlace) => open({ kind: "file", path: p.path, line: p.line }, true);
  const board = (b: Board) => {
    switch (b.kind) {
      case "file":
        return (
          <FileBoard
            workspace={w}
            person={person.name}
            path={b.path}
            line={b.line}
            manner={manner}
            bench={settings.data}
            open={openFile}
            dirty={(is) =>
              setDirty((old) => {
                if (old.has(b.path) === is) return old;
                const all = new Set(old);
                if (is) all.add(b.path);
                else all.delete(b.path);
                return all;
              })
            }
          />
        );
      case "change":
        return <ChangeBoard workspace={w} of={b} open={open} />;
      case "terminal":
        return w.phase === "ready" ? <TerminalView key={`${w.sheet} ${b.label}`} workspace={name} label={b.label} places={places} onPlace={place} /> : <p className="board-note">{say.aTerminalCanBe()}</p>;
      case "port":
        return <PortBoard workspace={w} port={b.port} />;
      case "debug":
        return <DebugBoard workspace={w} stoodAt={stoodAt} />;
      case "sheet":
        return <SheetBoard workspace={w} />;
      case "log":
        return <LogView key={w.sheet} address={`/api/v1/workspaces/${encodeURIComponent(name)}/log?sheet=${w.sheet}&follow=true`} />;
    }
  };
  return (
    <div className="bench" data-bench={w.name}>
      <ProblemNote error={problem} />
      <div className="bench-head">
        <h1>
          <Link to={`/workspaces/${name}`}>{w.name}</Link>
          {!own && say.of(w.owner)}
        </h1>
        <span className="quiet">{w.branch}</span>
        <State of={w} line />
        <span className="spacer" />
        <Button size="small" onClick={() => setFinding(true)} title="Alt-0">
          {say.find()}
        </Button>
        <Actions of={w} person={person} small />
      </div>
      <div className="bench-body">
        <Lists workspace={w} layout={layout} put={put} open={open} own={own} />
        <div className="boards" data-boards={layout.boards.length}>
          {layout.boards.map((b, i) => (
            <section
              key={b.kind === "file" ? `file ${b.path}` : addressOf(b)}
              className={i === layout.at ? "board here" : "board"}
              aria-label={say.board(titleOf(b), i + 1)}
              data-board={addressOf(b)}
              tabIndex={-1}
              ref={(e) => void (frames.current[i] = e)}
              onFocus={() => i !== layout.at && put({ ...layout, at: i }, true)}
            >
              <div className="board-head">
                <span className="board-title" title={b.kind === "file" || b.kind === "change" ? b.path : undefined}>
                  {titleOf(b)}
                  {b.kind === "file" && dirty.has(b.path) && <span title={say.notSaved()}> ●</span>}
                </span>
                <Button size="small" type="text" icon={<CloseOutlined />} aria-label={say.close(titleOf(b))} onClick={() => put(closed(layout, i))} />
              </div>
              <div className="board-body">
                <Boundary>
                  <Suspense fallback={<Spin />}>{board(b)}</Suspense>
                </Boundary>
              </div>
            </section>
          ))}
          {layout.boards.length === 0 && <p className="board-note">{say.noBoardIsOpen()}</p>}
        </div>
      </div>
      {layout.boards.length > 1 && (
        <nav className="board-choice" aria-label={say.boards()}>
          {layout.boards.map((b, i) => (
            <Button key={addressOf(b)} size="small" type={i === layout.at ? "default" : "text"} aria-pressed={i === layout.at} onClick={() => put({ ...layout, at: i }, true)}>
              {titleOf(b)}
            </Button>
          ))}
        </nav>
      )}
      <Foot workspace={w} showKeys={() => setKeys(true)} />
      {finding && <FindLine workspace={w} layout={layout} open={open} list={(l) => put({ ...layout, list: l })} close={() => setFinding(false)} />}
      {keys && <BenchKeys close={() => setKeys(false)} />}
    </div>
  );
}

function Lists({ workspace: w, layout, put, open, own }: { workspace: Workspace; layout: Layout; put: (l: Layout, replace?: boolean) => void; open: (b: Board, beside?: boolean) => void; own: boolean }) {
  const name = nameOf(w);
  const ready = w.phase === "ready" && own;
  const changed = useQuery({ ...changes(name), enabled: ready });
  const running = useQuery({ ...terminals(name), enabled: ready });
  const listening = useQuery({ ...ports(name), enabled: ready });
  const counts: Record<ListName, number | undefined> = {
    files: undefined,
    changes: changed.data?.reduce((n, c) => n + c.files.length, 0),
    terminals: running.data?.length,
    ports: listening.data?.filter((p) => p.listening).length,
    debug: undefined,
    search: undefined,
  };
  const at = layout.boards[layout.at];
  return (
    <aside className={layout.list ? "bench-lists open" : "bench-lists"} aria-label={say.lists()}>
      <nav aria-label={say.lists()}>
        {lists.map((l) => (
          <Button key={l} size="small" type={layout.list === l ? "default" : "text"} aria-pressed={layout.list === l} onClick={() => put({ ...layout, list: layout.list === l ? undefined : l }, true)}>
            {names[l]}
            {counts[l] ? <span className="number"> {counts[l]}</span> : null}
          </Button>
        ))}
      </nav>
      {layout.list && !ready && <p className="board-note">{own ? say.itShowsWhenThe() : say.filesChangesAndTerminals(w.owner)}</p>}
      {ready && layout.list === "files" && <FilesList workspace={w} open={open} at={at?.kind === "file" ? at.path : undefined} />}
      {ready && layout.list === "changes" && <ChangesList workspace={w} open={open} />}
      {ready && layout.list === "terminals" && <TerminalsList workspace={w} boards={layout.boards} open={open} />}
      {ready && layout.list === "ports" && <PortsList workspace={w} open={open} />}
      {ready && layout.list === "debug" && <DebugList workspace={w} at={at?.kind === "file" ? at.path : undefined} open={open} />}
      {ready && layout.list === "search" && <SearchList workspace={w} open={open} />}
    </aside>
  );
}

/** How a workspace comes up, while it does. */
function SheetBoard({ workspace: w }: { workspace: Workspace }) {
  const newest = useQuery(sheet(nameOf(w)));
  return (
    <div className="scrolls" tabIndex={0}>
      <ProblemNote error={newest.error} />
      {newest.data && <SheetView sheet={newest.data} />}
    </div>
  );
}

/** What a workspace is doing with its day, and what is to be known of it. */
function Foot({ workspace: w, showKeys }: { workspace: Workspace; showKeys: () => void }) {
  return (
    <footer className="bench-foot">
      <DayStrip day={w.day} width={160} />
      <span className="quiet small">{w.rest?.held_until ? say.heldUntil(when(w.rest.held_until)) : w.rest ? say.restsAtWithoutA(when(w.rest.stops_at)) : ""}</span>
      {w.rest?.warn && <Alert type="warning" banner title={say.itIsPutTo(when(w.rest.stops_at))} />}
      {w.conditions.some((c) => c.kind === "secrets changed") && <span className="small">{say.secretsChangedWhatIs()}</span>}
      <span className="spacer" />
      <Button size="small" type="text" onClick={showKeys}>
        {say.keys()}
      </Button>
    </footer>
  );
}
