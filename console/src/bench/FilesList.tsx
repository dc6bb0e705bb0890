import { useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Dropdown, Input, Space, Tree, type TreeDataNode } from "antd";
import { FileOutlined, FolderOutlined, LinkOutlined } from "@ant-design/icons";
import { useEffect, useMemo, useRef, useState } from "react";
import { nameOf, type Workspace } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { changes, type Changes } from "../service/changes";
import { contentAddress, folder, makeFolder, move, remove, upload, write, type File } from "../service/files";
import { under, type Board } from "./boards";
import * as say from "words/bench/FilesList";

interface Node extends TreeDataNode {
  file?: File;
}

const letters: Record<string, string> = { modified: "M", added: "A", deleted: "D", renamed: "R", copied: "C", type: "T", untracked: "?" };

/** marksOf are letters for what git says is changed, by absolute path; folders above have a dot. */
function marksOf(clones: Changes[]): Map<string, string> {
  const marks = new Map<string, string>();
  for (const c of clones)
    for (const f of c.files) {
      const path = `${c.folder}/${f.path}`.replace(/\/$/, "");
      marks.set(path, f.conflict ? "!" : (letters[f.unstaged ?? f.staged ?? ""] ?? "M"));
      for (let up = path.lastIndexOf("/"); up > c.folder.length; up = path.lastIndexOf("/", up - 1)) marks.set(path.slice(0, up), "•");
    }
  return marks;
}

/** The files of a workspace, a folder read when it is opened. */
export function FilesList({ workspace: w, open, at }: { workspace: Workspace; open: (b: Board, beside?: boolean) => void; at?: string }) {
  const name = nameOf(w);
  const { modal } = App.useApp();
  const queries = useQueryClient();
  const [expanded, setExpanded] = useState<string[]>([]);
  const [chosen, setChosen] = useState<{ path: string; folder: boolean }>();
  const [problem, setProblem] = useState<unknown>();
  const [height, setHeight] = useState(400);
  const box = useRef<HTMLDivElement>(null);
  const picked = useRef<HTMLInputElement>(null);
  const root = useQuery(folder(name, ""));
  const opened = useQueries({ queries: expanded.map((p) => folder(name, p)) });
  const clones = useQuery(changes(name));
  const marks = useMemo(() => marksOf(clones.data ?? []), [clones.data]);
  useEffect(() => {
    const watch = new ResizeObserver(([e]) => setHeight(Math.max(120, e?.contentRect.height ?? 0)));
    watch.observe(box.current!);
    return () => watch.disconnect();
  }, []);
  const content = new Map(expanded.map((p, i) => [p, opened[i]]));
  const nodes = (above: string, part?: { items: File[]; more: boolean }): Node[] => {
    const list = (part?.items ?? []).map((f): Node => {
      const path = above ? `${above}/${f.name}` : f.name;
      const isFolder = f.kind === "folder" || f.leads === "folder";
      const mark = marks.get(`${w.folder}/${path}`);
      return {
        key: path,
        file: f,
        isLeaf: !isFolder,
        disabled: f.raw !== undefined,
        icon: f.kind === "link" ? <LinkOutlined /> : isFolder ? <FolderOutlined /> : <FileOutlined />,
        title: (
          <span title={f.raw ? say.itsNameIsNo() : f.kind === "link" ? say.leadsToNowhereOr(f.target, f.leads) : undefined}>
            {f.name}
            {mark && <span className="git-mark"> {mark}</span>}
          </span>
        ),
        children: isFolder && content.get(path)?.data ? nodes(path, content.get(path)!.data) : undefined,
      };
    });
    if (part?.more) list.push({ key: `${above}\0more`, isLeaf: true, disabled: true, title: <span className="quiet">{say.andMoreSearchFinds()}</span> });
    return list;
  };
  const again = () => queries.invalidateQueries({ queryKey: ["files", name, "folder"] });
  const done = async (what: () => Promise<unknown>) => {
    setProblem(undefined);
    try {
      await what();
    } catch (e) {
      setProblem(e);
    }
    await again();
  };
  const here = chosen ? (chosen.folder ? chosen.path : chosen.path.split("/").slice(0, -1).join("/")) : "";
  const join = (path: string) => (here ? `${here}/${path}` : path);
  const ask = (title: string, value: string, go: (name: string) => Promise<unknown>) => {
    let said = value;
    modal.confirm({
      title,
      icon: null,
      content: <Input aria-label={say.name()} autoFocus defaultValue={value} onChange={(e) => (said = e.target.value)} />,
      onOk: () => (said.trim() && said !== value ? done(() => go(said.trim())) : undefined),
    });
  };
  const may = w.phase === "ready";
  const asks = [
    { key: "file", label: say.newFile(), onClick: () => ask(say.aNewFileIn(here || w.folder), "", async (n) => (await write(name, join(n), "", undefined), open({ kind: "file", path: join(n) }))) },
    { key: "folder", label: say.newFolder(), onClick: () => ask(say.aNewFolderIn(here || w.folder), "", (n) => makeFolder(name, join(n))) },
    { key: "upload", label: say.bringFilesHere(), onClick: () => picked.current?.click() },
    ...(chosen
      ? [
          { key: "beside", label: say.openBeside(), disabled: chosen.folder, onClick: () => open({ kind: "file", path: chosen.path }, true) },
          { key: "move", label: say.giveItAnotherPath(), onClick: () => ask(say.anotherPathFor(chosen.path), chosen.path, (n) => move(name, chosen.path, n)) },
          {
            key: "take",
            label: chosen.folder ? say.takeItAwayAs() : say.takeItAway(),
            onClick: () => location.assign(chosen.folder ? `/api/v1/workspaces/${encodeURIComponent(name)}/files/archive?form=zip&path=${encodeURIComponent(chosen.path)}` : contentAddress(name, chosen.path)),
          },
          {
            key: "remove",
            label: say.removeIt(),
            danger: true,
            onClick: () =>
              modal.confirm({
                title: say.removeAndAllThat(chosen.path, chosen.folder),
                content: say.whatGitDoesNot(),
                okText: say.remove(),
                okButtonProps: { danger: true },
                onOk: () => done(() => remove(name, chosen.path, chosen.folder)),
              }),
          },
        ]
      : []),
  ];
  return (
    <div
      className="list"
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        const files = [...e.dataTransfer.files];
        if (files.length > 0)
          void done(async () => {
            for (const f of files) await upload(name, join(f.name), f);
          });
      }}
    >
      <Space className="list-head" size={4}>
        <Dropdown disabled={!may} menu={{ items: asks }} trigger={["click"]}>
          <Button size="small">{say.newMoveRemove()}</Button>
        </Dropdown>
        {chosen && (
          <span className="quiet small list-chosen" title={chosen.path}>
            {chosen.path}
          </span>
        )}
      </Space>
      <input
        ref={picked}
        type="file"
        multiple
        hidden
        aria-label={say.filesToBring()}
        onChange={(e) => {
          const files = [...(e.target.files ?? [])];
          e.target.value = "";
          void done(async () => {
            for (const f of files) await upload(name, join(f.name), f);
          });
        }}
      />
      <ProblemNote error={problem ?? root.error} />
      <div className="list-body" ref={box}>
        <Tree<Node>
          aria-label={say.files()}
          showIcon
          blockNode
          height={height}
          expandedKeys={expanded}
          onExpand={(k) => setExpanded(k.map(String))}
          loadData={async (n) => void (await queries.ensureQueryData(folder(name, String(n.key))).catch(setProblem))}
          selectedKeys={chosen ? [chosen.path] : at ? [under(at, w.folder)] : []}
          onSelect={(_, { node, nativeEvent }) => {
            const path = String(node.key);
            const isFolder = !node.isLeaf;
            setChosen({ path, folder: isFolder });
            if (isFolder) setExpanded((old) => (old.includes(path) ? old.filter((p) => p !== path) : [...old, path]));
            else open({ kind: "file", path }, nativeEvent.ctrlKey || nativeEvent.metaKey);
          }}
          treeData={nodes("", root.data)}
        />
      </div>
    </div>
  );
}
