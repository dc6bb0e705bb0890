import { Checkbox, Input, Space } from "antd";
import { useEffect, useRef, useState } from "react";
import { nameOf, type Workspace } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { search, type Found } from "../service/files";
import type { Board } from "./boards";
import * as say from "words/bench/SearchList";

const foundMost = 500;

/** Search in the lines of a workspace's files, or in their names. */
export function SearchList({ workspace: w, open }: { workspace: Workspace; open: (b: Board, beside?: boolean) => void }) {
  const [text, setText] = useState("");
  const [names, setNames] = useState("");
  const [expression, setExpression] = useState(false);
  const [exact, setExact] = useState(false);
  const [found, setFound] = useState<Found[]>([]);
  const [state, setState] = useState<"" | "searching" | "over" | "more">("");
  const [problem, setProblem] = useState<unknown>();
  const running = useRef<AbortController>(undefined);
  useEffect(() => () => running.current?.abort(), []);
  const go = async () => {
    running.current?.abort();
    if (!text && !names) return;
    const stop = (running.current = new AbortController());
    const all: Found[] = [];
    let shown = 0;
    setFound([]);
    setProblem(undefined);
    setState("searching");
    try {
      for await (const f of search(nameOf(w), { text, name: names, expression, exact, limit: foundMost }, stop.signal)) {
        if (stop.signal.aborted) return;
        if (f.over) setState(f.more ? "more" : "over");
        else all.push(f);
        if (Date.now() - shown > 100) {
          shown = Date.now();
          setFound([...all]);
        }
      }
      setFound(all);
    } catch (e) {
      if (!stop.signal.aborted) {
        setProblem(e);
        setState("");
      }
    }
  };
  const byFile = new Map<string, Found[]>();
  for (const f of found) if (f.path) byFile.set(f.path, [...(byFile.get(f.path) ?? []), f]);
  return (
    <div className="list scrolls">
      <form
        role="search"
        onSubmit={(e) => {
          e.preventDefault();
          void go();
        }}
      >
        <Space orientation="vertical" style={{ width: "100%" }} size={6}>
          <Input aria-label={say.whatALineHolds()} placeholder={say.whatALineHoldsEmpty()} value={text} onChange={(e) => setText(e.target.value)} allowClear />
          <Input aria-label={say.whatThePathHolds()} placeholder={say.inFilesWhosePath()} value={names} onChange={(e) => setNames(e.target.value)} allowClear />
          <Space wrap>
            <Checkbox checked={expression} onChange={(e) => setExpression(e.target.checked)}>
              {say.regularExpression()}
            </Checkbox>
            <Checkbox checked={exact} onChange={(e) => setExact(e.target.checked)}>
              {say.capitalsCount()}
            </Checkbox>
            <button type="submit" className="ant-btn ant-btn-default ant-btn-sm" hidden>
              {say.search()}
            </button>
          </Space>
        </Space>
      </form>
      <ProblemNote error={problem} />
      <p className="quiet small" role="status">
        {state === "searching" && say.searchingSoFar(found.length)}
        {state === "over" && (found.length === 0 ? say.nothingFoundWhatGit() : say.inFiles(found.length, byFile.size))}
        {state === "more" && say.theFirstNarrowIt(found.length)}
        {state === "" && !problem && say.enterSearches()}
      </p>
      {[...byFile].map(([path, hits]) => (
        <section key={path} className="hits">
          <button type="button" className="plain path" onClick={(e) => open({ kind: "file", path, line: hits[0]?.line }, e.ctrlKey || e.metaKey)}>
            {path}
          </button>
          {hits.some((h) => h.line) && (
            <ul>
              {hits.map((h) => (
                <li key={`${h.line}:${h.column}`}>
                  <button type="button" className="plain" data-line={h.line} onClick={(e) => open({ kind: "file", path, line: h.line }, e.ctrlKey || e.metaKey)}>
                    <span className="quiet number">{h.line}</span> <Hit of={h} />
                  </button>
                </li>
              ))}
            </ul>
          )}
        </section>
      ))}
    </div>
  );
}

/** A line that was found, with what was looked for marked; columns are counted in bytes. */
function Hit({ of: f }: { of: Found }) {
  const bytes = new TextEncoder().encode(f.text ?? "");
  const from = Math.max(0, (f.column ?? 1) - (f.from ?? 1));
  const to = from + (f.length ?? 0);
  const part = (a: number, b?: number) => new TextDecoder().decode(bytes.slice(a, b));
  const lead = part(0, from);
  return (
    <code>
      {lead.length > 40 ? `…${lead.slice(-38)}` : lead.trimStart()}
      <mark>{part(from, to)}</mark>
      {part(to, to + 160)}
    </code>
  );
}
