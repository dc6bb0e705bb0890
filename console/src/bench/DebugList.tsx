import { CaretRightOutlined, CloseOutlined } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useSyncExternalStore } from "react";
import { nameOf, type Workspace } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { bench } from "../service/bench";
import { absolute, under, type Board } from "./boards";
import { debuggerOf } from "./debugging";
import * as say from "words/bench/DebugList";

/** What can be debugged in a workspace, and where it stops. */
export function DebugList({ workspace: w, at, open }: { workspace: Workspace; at?: string; open: (b: Board, beside?: boolean) => void }) {
  const all = useQuery(bench(nameOf(w)));
  const d = debuggerOf(w.id, nameOf(w), w.folder);
  const points = useSyncExternalStore(d.points.subscribe, d.points.now);
  return (
    <div className="list scrolls">
      <ProblemNote error={all.error} />
      <ul className="rows">
        {all.data?.debugging.map((c) => (
          <li key={c.name} data-configuration={c.name}>
            <Button
              size="small"
              type="text"
              icon={<CaretRightOutlined />}
              onClick={() => {
                d.begin(c, at && absolute(at, w.folder));
                open({ kind: "debug" });
              }}
            >
              {c.name}
            </Button>
            <span className="quiet small">
              {" "}
              {c.adapter}
              {c.found ? say.foundInTheTree() : ""}
            </span>
          </li>
        ))}
      </ul>
      {all.data?.debugging.length === 0 && <p className="quiet">{say.nothingHereSaysHow(<code>customizations.yardbench.debug</code>)}</p>}
      {all.data && !all.data.adapters.some((a) => a.there) && (
        <>
          <p className="quiet">{say.nothingThatDebugsIs()}</p>
          <pre className="said">{all.data.adapters.flatMap((a) => (a.line ? [`# ${a.id}\n${a.line}`] : [])).join("\n")}</pre>
        </>
      )}
      {all.data?.problems.map((p) => (
        <p key={p} className="quiet small">
          {say.notUnderstood(p)}
        </p>
      ))}
      <h3>{say.breakPoints()}</h3>
      {points.size === 0 && <p className="quiet">{say.nonePressBesideA()}</p>}
      <ul className="rows">
        {[...points].flatMap(([path, lines]) =>
          lines.map((p) => (
            <li key={`${path}:${p.line}`}>
              <button type="button" className="plain" onClick={(e) => open({ kind: "file", path, line: p.line }, e.ctrlKey || e.metaKey)}>
                {under(path, w.folder)}:{p.line}
              </button>
              {p.condition && <code> {p.condition}</code>}
              <Button
                size="small"
                type="text"
                icon={<CloseOutlined />}
                aria-label={say.stopAtNoMore(under(path, w.folder), p.line)}
                onClick={() =>
                  d.points.put(
                    path,
                    lines.filter((o) => o !== p),
                  )
                }
              />
            </li>
          )),
        )}
      </ul>
    </div>
  );
}
