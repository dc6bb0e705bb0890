import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Space, Spin } from "antd";
import { useEffect, useEffectEvent, useRef, useState } from "react";
import { Problem, nameOf, type Workspace } from "../api/client";
import { bytes } from "../parts/amounts";
import { editorLook } from "../parts/editorLook";
import { ProblemNote } from "../parts/ProblemNote";
import { useTaste } from "../parts/taste";
import { editedMost, entry, read, write } from "../service/files";
import { palette, useDark } from "../theme";
import { draftOf, dropDraft, keepDraft } from "./drafts";
import { FileEditor, type Manner } from "./editor";
import { pictureOf, Picture, Slices, TakeAway } from "./Unwritten";

/** What a board of a file is given. */
export interface FileProps {
  workspace: Workspace;
  person: string;
  path: string;
  line?: number;
  manner: Manner;
  dirty: (is: boolean) => void;
}

/** Editors that were closed, with what can be undone in them: the latest of them, in this page alone. */
const closed = new Map<string, unknown>();
const closedMost = 30;

/** One file: written in where it is a text, shown where it is a picture, named else. */
export function FileBoard(props: FileProps) {
  const name = nameOf(props.workspace);
  const about = useQuery(entry(name, props.path));
  if (about.isPending) return <Spin />;
  const none = about.error instanceof Problem && about.error.status === 404;
  if (about.error && !none && !about.data) return <ProblemNote error={about.error} />;
  const f = none ? undefined : about.data;
  if (f && (f.kind === "folder" || f.leads === "folder")) return <p className="board-note">{props.path} is a folder.</p>;
  if (f && f.kind === "other") return <p className="board-note">{props.path} is neither a file nor a folder: it is not opened.</p>;
  if (f && pictureOf(props.path) && f.bytes <= 16 * editedMost) return <Picture workspace={name} path={props.path} tag={f.tag ?? ""} />;
  if (f && f.bytes > editedMost) return <Slices key={f.tag} workspace={name} path={props.path} file={f} line={props.line} />;
  return <Text key={props.path} {...props} tag={f?.tag} gone={none} />;
}

interface Opened {
  text: string;
  tag?: string;
  draft: boolean;
}

/** What is read of a file, and what was written of it before and not saved. */
async function opening(props: FileProps, gone: boolean): Promise<{ disk?: { text: string; tag: string }; start: Opened; other?: boolean }> {
  const draft = await draftOf(props.person, props.workspace.id, props.path);
  if (gone) return { start: { text: draft?.text ?? "", draft: Boolean(draft) } };
  const got = await read(nameOf(props.workspace), props.path);
  const disk = { text: new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(got.bytes), tag: got.tag };
  if (disk.text.includes("\0")) throw new TypeError("zero bytes");
  if (!draft || draft.text === disk.text) return { disk, start: { ...disk, draft: false } };
  return { disk, start: { text: draft.text, tag: draft.tag, draft: true }, other: draft.tag !== disk.tag };
}

function Text(props: FileProps & { tag?: string; gone: boolean }) {
  const { workspace: w, person, path, gone } = props;
  const name = nameOf(w);
  const first = useQuery({ queryKey: ["files", name, "opening", path], queryFn: () => opening(props, gone), staleTime: Infinity, gcTime: 0, retry: false });
  if (first.isPending) return <Spin />;
  if (first.error instanceof TypeError) return <TakeAway workspace={name} path={path} note={`${path} is no text (UTF-8).`} />;
  if (!first.data) return <ProblemNote error={first.error} />;
  return <Editing {...props} name={name} person={person} first={first.data} />;
}

function Editing({ workspace: w, name, person, path, line, manner, dirty: tellDirty, tag: onDisk, gone, first }: FileProps & { name: string; tag?: string; gone: boolean; first: Awaited<ReturnType<typeof opening>> }) {
  const place = useRef<HTMLDivElement>(null);
  const editor = useRef<FileEditor>(null);
  const queries = useQueryClient();
  const isDark = useDark();
  const [taste] = useTaste();
  const saved = useRef<{ text: string; tag?: string }>({ text: first.disk?.text ?? "", tag: first.start.tag ?? (first.other ? undefined : first.disk?.tag) });
  const [dirty, setDirty] = useState(first.start.draft);
  const [saving, setSaving] = useState(false);
  const [problem, setProblem] = useState<unknown>();
  const [theirs, setTheirs] = useState(first.other ? first.disk : undefined);
  const [comparing, setComparing] = useState(false);
  const keeping = useRef<ReturnType<typeof setTimeout>>(undefined);

  const mark = useEffectEvent((is: boolean) => {
    setDirty(is);
    tellDirty(is);
  });
  const changed = useEffectEvent((text: () => string) => {
    mark(true);
    clearTimeout(keeping.current);
    keeping.current = setTimeout(() => {
      const now = text();
      if (now === saved.current.text && saved.current.tag !== undefined) {
        mark(false);
        void dropDraft(person, w.id, path);
      } else void keepDraft(person, w.id, path, { text: now, tag: saved.current.tag, at: Date.now() });
    }, 300);
  });
  const isSaved = (text: string, tag: string | undefined) => {
    saved.current = { text, tag };
    setProblem(undefined);
    const now = editor.current?.text() ?? text;
    clearTimeout(keeping.current);
    setDirty(now !== text);
    tellDirty(now !== text);
    if (now === text) void dropDraft(person, w.id, path);
    else void keepDraft(person, w.id, path, { text: now, tag, at: Date.now() });
  };
  const save = useEffectEvent(async () => {
    const e = editor.current;
    if (!e || saving) return;
    e.tidy();
    const text = e.text();
    setSaving(true);
    try {
      const f = await write(name, path, text, saved.current.tag);
      isSaved(text, f.tag);
      setComparing(false);
      e.against(undefined);
      queries.setQueryData(entry(name, path).queryKey, f);
      void queries.invalidateQueries({ queryKey: ["changes", name] }, { cancelRefetch: false });
    } catch (err) {
      if (err instanceof Problem && err.status === 412) await looked();
      else setProblem(err);
    } finally {
      setSaving(false);
    }
  });
  // Somebody or something else wrote it. Where nothing of ours is unsaved, it is taken.
  const looked = useEffectEvent(async () => {
    try {
      const got = await read(name, path);
      if (got.tag === saved.current.tag) return;
      const text = new TextDecoder().decode(got.bytes);
      const e = editor.current;
      if (e && e.text() === saved.current.text) {
        saved.current = { text, tag: got.tag };
        e.put(text);
        mark(false);
      } else if (e?.text() === text) isSaved(text, got.tag);
      else setTheirs({ text, tag: got.tag });
    } catch (err) {
      if (err instanceof Problem && err.status === 404) setTheirs({ text: "", tag: "" });
      else setProblem(err);
    }
  });

  useEffect(() => {
    const id = `${w.id}\0${path}`;
    const e = new FileEditor(place.current!, path, first.start.text, { changed, save: () => void save() }, w.phase !== "ready", taste.keys === "emacs", closed.get(id));
    editor.current = e;
    closed.delete(id);
    return () => {
      closed.set(id, e.kept());
      const oldest = closed.keys().next().value;
      if (closed.size > closedMost && oldest !== undefined) closed.delete(oldest);
      e.end();
      editor.current = null;
    };
  }, [w.id, path, first, w.phase, taste.keys]);
  useEffect(() => editor.current?.setLook(editorLook(isDark ? palette.dark : palette.light, isDark), taste.fontPixels), [isDark, taste.fontPixels, first, w.phase, taste.keys]);
  useEffect(() => editor.current?.setManner(manner), [manner, first, w.phase, taste.keys]);
  useEffect(() => {
    if (line) editor.current?.goTo(line);
  }, [line, first]);
  useEffect(() => {
    if (!saving && (gone ? saved.current.tag !== undefined : onDisk !== undefined && onDisk !== saved.current.tag)) void looked();
  }, [onDisk, gone, saving]);

  const settle = (how: "mine" | "theirs" | "compare") => {
    if (!theirs) return;
    const e = editor.current;
    saved.current = { text: theirs.text, tag: theirs.tag || undefined };
    setTheirs(undefined);
    if (how === "theirs") {
      e?.put(theirs.text);
      isSaved(theirs.text, theirs.tag || undefined);
    } else if (e) {
      if (how === "compare") {
        e.against(theirs.text);
        setComparing(true);
      }
      changed(() => e.text());
    }
  };
  return (
    <div className="file-board" data-file={path} data-dirty={dirty}>
      {theirs && (
        <Alert
          type="warning"
          showIcon
          title={theirs.tag === "" ? `${path} is not there any more: it was removed or moved meanwhile.` : `${path} was written by somebody or something else meanwhile.`}
          description="What you wrote is kept here."
          action={
            <Space wrap>
              {theirs.tag !== "" && (
                <Button size="small" onClick={() => settle("compare")}>
                  Compare
                </Button>
              )}
              <Button size="small" onClick={() => settle("mine")}>
                Keep mine
              </Button>
              <Button size="small" onClick={() => settle("theirs")}>
                {theirs.tag === "" ? "Give mine up" : "Take theirs"}
              </Button>
            </Space>
          }
        />
      )}
      <ProblemNote error={problem} />
      <div className="editor-place" ref={place} />
      <div className="board-foot">
        <span className="quiet">{saving ? "saving…" : comparing ? "compared with what is on the disk: keep or undo each place, then save" : dirty ? "not saved; kept in this browser" : gone && saved.current.tag === undefined ? "new" : "saved"}</span>
        <span className="spacer" />
        {dirty && (
          <Button size="small" type="text" onClick={() => void save()} disabled={saving || w.phase !== "ready"}>
            Save
          </Button>
        )}
        <span className="quiet number">{bytes(onDisk === undefined ? 0 : saved.current.text.length)}</span>
      </div>
    </div>
  );
}

