import { CaretRightOutlined, CloseOutlined, PauseOutlined, RedoOutlined, StopOutlined } from "@ant-design/icons";
import { Button, Input, Space, Tree, type TreeDataNode } from "antd";
import { lazy, Suspense, useEffect, useState, useSyncExternalStore } from "react";
import { nameOf, type Workspace } from "../api/client";
import { useColours } from "../palette";
import { debuggerOf, type Debugger, type Standing, type Variable } from "./debugging";
import * as say from "words/bench/DebugBoard";

const TerminalView = lazy(() => import("../parts/TerminalView").then((m) => ({ default: m.TerminalView })));

const words: Record<Standing["is"], string> = { no: say.nothingIsDebugged(), begins: say.begins(), runs: say.runs(), stopped: say.stands(), over: say.isOver() };

/** A program that is debugged: where it stands, what is in its variables, what it prints. */
export function DebugBoard({ workspace: w, stoodAt }: { workspace: Workspace; stoodAt: (path: string, line: number) => void }) {
  const d = debuggerOf(w.id, nameOf(w), w.folder);
  const s = useSyncExternalStore(d.subscribe, d.now);
  const colours = useColours();
  const [text, setText] = useState("");
  const [watched, setWatched] = useState("");
  const stands = s.is === "stopped";
  const going = stands || s.is === "runs" || s.is === "begins";
  return (
    <div className="debug-board" data-debug={s.is}>
      <Space className="board-bar" wrap size={4}>
        <Button size="small" icon={<CaretRightOutlined />} disabled={!stands} onClick={() => d.step("continue")} title="Alt-G">
          {say.goOn()}
        </Button>
        <Button size="small" disabled={!stands} onClick={() => d.step("next")} title="Alt-J">
          {say.over()}
        </Button>
        <Button size="small" disabled={!stands} onClick={() => d.step("stepIn")} title="Alt-I">
          {say.into()}
        </Button>
        <Button size="small" disabled={!stands} onClick={() => d.step("stepOut")} title="Alt-U">
          {say.out()}
        </Button>
        <Button size="small" icon={<PauseOutlined />} aria-label={say.haveItStopWhere()} disabled={s.is !== "runs"} onClick={() => d.step("pause")} />
        <Button size="small" icon={<StopOutlined />} disabled={!going} onClick={() => d.end()}>
          {say.end()}
        </Button>
        <Button size="small" icon={<RedoOutlined />} disabled={s.is === "no"} onClick={() => d.again()}>
          {say.again()}
        </Button>
      </Space>
      <p className="debug-state" role="status" style={{ color: s.is === "stopped" ? colours.attention : undefined }}>
        <strong>{s.name}</strong> {words[s.is]}
        {s.why && `: ${s.why}`}
      </p>
      <div className="debug-parts">
        {stands && (
          <>
            <ol className="stack" aria-label={say.callStack()}>
              {s.frames.map((f) => (
                <li key={f.id} data-frame={f.name}>
                  <button
                    type="button"
                    className="plain"
                    aria-current={f.id === s.frame}
                    onClick={() => {
                      void d.look(f.id).catch(() => undefined);
                      if (f.path) stoodAt(f.path, f.line);
                    }}
                  >
                    {f.name} <span className="quiet small">{f.path && `${f.path.split("/").pop()}:${f.line}`}</span>
                  </button>
                </li>
              ))}
            </ol>
            <Variables of={d} scopes={s.scopes} />
          </>
        )}
        <section aria-label={say.watched()}>
          {s.watches.map((x) => (
            <div key={x.expression} className="watch" data-watch={x.expression}>
              <code>{x.expression}</code> = <span className={x.problem ? "quiet" : undefined}>{x.problem ?? x.value ?? "…"}</span>
              <Button size="small" type="text" icon={<CloseOutlined />} aria-label={say.watchNoMore(x.expression)} onClick={() => d.unwatch(x.expression)} />
            </div>
          ))}
          <Input
            size="small"
            aria-label={say.watchAnExpression()}
            placeholder={say.watchAnExpression()}
            value={watched}
            onChange={(e) => setWatched(e.target.value)}
            onPressEnter={() => {
              d.watch(watched.trim());
              setWatched("");
            }}
          />
        </section>
        {s.output && (
          <pre className="said debug-output" tabIndex={0} aria-label={say.whatItPrinted()}>
            {s.output}
          </pre>
        )}
        {stands && (
          <Input
            size="small"
            aria-label={say.haveItCompute()}
            placeholder={say.haveItComputeSomething()}
            value={text}
            onChange={(e) => setText(e.target.value)}
            onPressEnter={() => {
              if (text.trim()) void d.evaluate(text);
              setText("");
            }}
          />
        )}
      </div>
      {s.terminal && (
        <div className="debug-terminal">
          <Suspense fallback={null}>
            <TerminalView key={s.terminal} workspace={nameOf(w)} label={s.terminal} />
          </Suspense>
        </div>
      )}
    </div>
  );
}

interface Node extends TreeDataNode {
  of: Variable;
  children?: Node[];
}

/** The variables of the place that is looked at; what is in one is asked for when it is opened. */
function Variables({ of: d, scopes }: { of: Debugger; scopes: Variable[] }) {
  const [parts, setParts] = useState<ReadonlyMap<number, Variable[]>>(new Map());
  const load = (reference: number) =>
    d.parts(reference).then(
      (all) => setParts((old) => new Map(old).set(reference, all)),
      () => setParts((old) => new Map(old).set(reference, [])),
    );
  const first = scopes[0]?.reference;
  useEffect(() => {
    let here = true;
    if (first)
      d.parts(first).then(
        (all) => here && setParts(new Map([[first, all]])),
        () => undefined,
      );
    return () => {
      here = false;
    };
  }, [d, first]);
  const node = (v: Variable, above: string): Node => {
    const key = `${above}/${v.name}`;
    return {
      key,
      of: v,
      isLeaf: !v.reference,
      title: (
        <span data-variable={v.name} title={v.type}>
          {v.name}
          {v.value && (
            <>
              {" "}
              = <code>{v.value}</code>
            </>
          )}
        </span>
      ),
      children: parts.get(v.reference)?.map((p) => node(p, key)),
    };
  };
  if (scopes.length === 0) return null;
  return <Tree<Node> aria-label={say.variables()} defaultExpandedKeys={[`/${scopes[0]?.name}`]} selectable={false} treeData={scopes.map((s) => node(s, ""))} loadData={(n) => (n.of.reference && !parts.has(n.of.reference) ? load(n.of.reference) : Promise.resolve())} />;
}
