import { useQuery } from "@tanstack/react-query";
import { Input, Modal } from "antd";
import { useState } from "react";
import { nameOf, type Workspace } from "../api/client";
import { useSettled } from "../parts/useSettled";
import { search } from "../service/files";
import { freeLabel, terminals } from "../service/terminals";
import { absolute, addressOf, titleOf, type Board, type Layout, type ListName } from "./boards";
import * as say from "words/bench/FindLine";

interface Line {
  key: string;
  what: string;
  note: string;
  go: (beside: boolean) => void;
}

const shownMost = 12;

/** One line for everything: files by name, boards that are open, what may be asked. */
export function FindLine({ workspace: w, layout, open, list, close }: { workspace: Workspace; layout: Layout; open: (b: Board, beside?: boolean) => void; list: (l: ListName) => void; close: () => void }) {
  const name = nameOf(w);
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const settled = useSettled(text.trim());
  const running = useQuery({ ...terminals(name), enabled: w.phase === "ready" });
  const files = useQuery<string[]>({
    queryKey: ["files", name, "find", settled],
    enabled: settled !== "" && !settled.startsWith("@") && w.phase === "ready",
    placeholderData: (old) => old,
    queryFn: async ({ signal }) => {
      const all: string[] = [];
      for await (const f of search(name, { name: settled.split(":")[0], limit: 200 }, signal)) if (f.path && f.file?.kind !== "folder") all.push(f.path);
      return all;
    },
  });
  // What begins with @ is a name in the file that somebody is at, as its language's program knows it.
  const here = layout.boards[layout.at];
  const file = here?.kind === "file" ? here.path : undefined;
  const symbols = useQuery({
    queryKey: ["symbols", w.id, file],
    enabled: settled.startsWith("@") && file !== undefined,
    gcTime: 0,
    queryFn: async () => (await Promise.all((await import("./language")).serversOf(w.id).map((s) => s.symbols(absolute(file!, w.folder))))).flat(),
  });
  const asks: Line[] = [
    ...layout.boards.map((b, i) => ({ key: addressOf(b), what: titleOf(b), note: say.board(i + 1), go: () => open(b) })),
    { key: "new terminal", what: say.anotherTerminal(), note: say.ask(), go: () => open({ kind: "terminal", label: freeLabel((running.data ?? []).map((t) => t.label)) }, true) },
    { key: "sheet", what: say.launchSheet(), note: say.aBoard(), go: (beside) => open({ kind: "sheet" }, beside) },
    { key: "log", what: say.log(), note: say.aBoard(), go: (beside) => open({ kind: "log" }, beside) },
    ...(["files", "changes", "terminals", "ports", "search"] as const).map((l) => ({ key: `list ${l}`, what: say.listOfWhatA(l === "search", l), note: say.list(), go: () => list(l) })),
  ];
  const [sought, line] = settled.split(":");
  const low = (sought ?? "").toLowerCase();
  const end = (p: string) => p.split("/").pop()!.toLowerCase();
  const ranked = [...(files.data ?? [])].sort((a, b) => Number(!end(a).startsWith(low)) - Number(!end(b).startsWith(low)) || a.length - b.length || (a < b ? -1 : 1));
  const named: Line[] = low.startsWith("@") ? (symbols.data ?? []).filter((s) => s.name.toLowerCase().includes(low.slice(1))).map((s, i) => ({ key: `symbol ${i}`, what: s.name, note: say.line(s.line), go: (beside) => open({ kind: "file", path: file!, line: s.line }, beside) })) : [];
  const lines: Line[] = [
    ...named,
    ...asks.filter((a) => !low || a.what.toLowerCase().includes(low)),
    ...(low && !low.startsWith("@") ? ranked.map((p) => ({ key: `file ${p}`, what: p, note: say.file(), go: (beside: boolean) => open({ kind: "file", path: p, ...(Number(line) > 0 ? { line: Number(line) } : {}) }, beside) })) : []),
  ];
  // A file is what is looked for most: it stands before what may be asked, once its name begins so.
  const shown = (low ? [...lines.filter((l) => l.note === "file" && end(l.what).startsWith(low)), ...lines.filter((l) => !(l.note === "file" && end(l.what).startsWith(low)))] : lines).slice(0, shownMost);
  const go = (l: Line | undefined, beside: boolean) => {
    if (!l) return;
    close();
    l.go(beside);
  };
  return (
    <Modal open footer={null} closable={false} onCancel={close} destroyOnHidden title={null} width={640} className="find-line">
      <Input
        autoFocus
        role="combobox"
        aria-expanded
        aria-controls="found"
        aria-activedescendant={shown[at] && `found-${at}`}
        aria-label={say.findAFileA()}
        placeholder={say.aFileTidesPy()}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt(Math.min(at + 1, shown.length - 1));
          else if (e.key === "ArrowUp") setAt(Math.max(at - 1, 0));
          else if (e.key === "Enter") go(shown[at], e.ctrlKey || e.metaKey);
          else return;
          e.preventDefault();
        }}
      />
      <ul role="listbox" id="found" aria-label={say.found()}>
        {shown.map((l, i) => (
          <li key={l.key} id={`found-${i}`} role="option" aria-selected={i === at} onClick={(e) => go(l, e.ctrlKey || e.metaKey)}>
            <span>{l.what}</span> <span className="quiet small">{l.note}</span>
          </li>
        ))}
      </ul>
      {low && shown.length === 0 && !files.isFetching && !symbols.isFetching && <p className="quiet">{say.nothingIsCalledSo()}</p>}
    </Modal>
  );
}
