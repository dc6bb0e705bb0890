import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Dropdown, Popover, Space, Spin } from "antd";
import { useEffect, useEffectEvent, useMemo, useRef, useState, useSyncExternalStore } from "react";
import { Problem, nameOf, type Workspace } from "../api/client";
import { editorLook } from "../parts/editorLook";
import { ProblemNote } from "../parts/ProblemNote";
import { useTaste } from "../parts/taste";
import { type BenchLanguage, type BenchOf } from "../service/bench";
import { editedMost, entry } from "../service/files";
import { palette, useDark } from "../palette";
import type { EditorView } from "@codemirror/view";
import { absolute, languageOf } from "./boards";
import { showPlace, showPoints, stopping } from "./breakpoints";
import { debuggerOf } from "./debugging";
import type { Manner } from "./editor";
import { serverOf, type LanguageServer } from "./language";
import { opening, Written, type Opening, type Place } from "./written";
import { pictureOf, Picture, Slices, TakeAway } from "./Unwritten";
import * as say from "words/bench/FileBoard";

/** What a board of a file is given. */
export interface FileProps {
  workspace: Workspace;
  person: string;
  path: string;
  line?: number;
  manner: Manner;
  bench?: BenchOf;
  dirty: (is: boolean) => void;
  open: (path: string, line: number) => void;
}

/** One file: written in where it is a text, shown where it is a picture, named else. */
export function FileBoard(props: FileProps) {
  const name = nameOf(props.workspace);
  const ready = props.workspace.phase === "ready";
  const about = useQuery({ ...entry(name, props.path), enabled: ready });
  if (!ready && !about.data) return <p className="board-note">{say.isShownWhenThe(props.path)}</p>;
  if (about.isPending) return <Spin />;
  const none = about.error instanceof Problem && about.error.status === 404;
  if (about.error && !none && !about.data) return <ProblemNote error={about.error} />;
  const f = none ? undefined : about.data;
  if (f && (f.kind === "folder" || f.leads === "folder")) return <p className="board-note">{say.isAFolder(props.path)}</p>;
  if (f && f.kind === "other") return <p className="board-note">{say.isNeitherAFile(props.path)}</p>;
  if (f && pictureOf(props.path) && f.bytes <= 16 * editedMost) return <Picture workspace={name} path={props.path} tag={f.tag ?? ""} />;
  if (f && f.bytes > editedMost) return <Slices key={f.tag} workspace={name} path={props.path} file={f} line={props.line} />;
  return <Text key={props.path} {...props} tag={f?.tag} gone={none} />;
}

function Text(props: FileProps & { tag?: string; gone: boolean }) {
  const { workspace: w, person, path, gone } = props;
  const place = useMemo((): Place => ({ workspace: nameOf(w), id: w.id, person, path }), [w, person, path]);
  const first = useQuery({ queryKey: ["files", nameOf(w), "opening", path], queryFn: () => opening(place, gone), staleTime: Infinity, gcTime: 0, retry: false });
  if (first.isPending) return <Spin />;
  if (first.error instanceof TypeError) return <TakeAway workspace={nameOf(w)} path={path} note={say.isNoTextUtf(path)} />;
  if (!first.data) return <ProblemNote error={first.error} />;
  return <Editing {...props} place={place} first={first.data} />;
}

function Editing({ workspace: w, path, line, manner, bench, dirty: tellDirty, open, tag: onDisk, gone, place, first }: FileProps & { tag?: string; gone: boolean; place: Place; first: Opening }) {
  const name = nameOf(w);
  const box = useRef<HTMLDivElement>(null);
  const queries = useQueryClient();
  const { message } = App.useApp();
  const isDark = useDark();
  const [taste] = useTaste();
  const [written] = useState(() => new Written(place, first));
  const standing = useSyncExternalStore(written.subscribe, written.now);
  const language = languageOf(bench?.languages, path);
  const { id, folder } = w;
  const ready = w.phase === "ready";
  const [languageID, program] = [language?.id, language?.program];
  const server = useMemo(() => (languageID && program && ready ? serverOf({ workspace: name, id, folder, open, tell: (what) => void message.info(what, 6) }, languageID, program) : undefined), [languageID, program, ready, id, folder, name, message, open]);
  useEffect(
    () =>
      written.within({
        before: (e) => (manner.formatOnSave ? server?.format(e.view) : undefined),
        saved: (f) => {
          queries.setQueryData(entry(name, path).queryKey, f);
          server?.saved(absolute(path, folder));
          void queries.invalidateQueries({ queryKey: ["changes", name] }, { cancelRefetch: false });
        },
      }),
    [written, server, manner, queries, name, path, folder],
  );
  useEffect(() => written.show(box.current!, !ready, taste.keys === "emacs"), [written, ready, taste.keys]);
  useEffect(() => written.editor?.setLook(editorLook(isDark ? palette.dark : palette.light, isDark), taste.fontPixels), [isDark, taste.fontPixels, written, ready, taste.keys]);
  useEffect(() => written.editor?.setManner(manner), [manner, written, ready, taste.keys]);
  useEffect(() => {
    if (!server) return;
    const { extension, end } = server.use(absolute(path, folder));
    const e = written.editor;
    e?.setMore(extension);
    return () => {
      if (written.editor === e) e?.setMore([]);
      end();
    };
  }, [server, path, folder, written, ready, taste.keys]);
  // Where a program stops, and where it stands.
  const d = debuggerOf(id, name, folder);
  const points = useSyncExternalStore(d.points.subscribe, d.points.now).get(absolute(path, folder));
  const debugs = useSyncExternalStore(d.subscribe, d.now);
  const frame = debugs.is === "stopped" ? debugs.frames.find((f) => f.id === debugs.frame) : undefined;
  const standsAt = frame?.path === absolute(path, folder) ? frame.line : undefined;
  const stops = bench !== undefined && bench.adapters.some((a) => a.there);
  useEffect(() => written.editor?.setStops(stops ? stopping(d.points, absolute(path, folder)) : []), [d, stops, path, folder, written, ready, taste.keys]);
  useEffect(() => {
    if (stops && written.editor) showPoints(written.editor.view, points ?? []);
  }, [points, stops, written, ready, taste.keys]);
  useEffect(() => {
    if (!stops || !written.editor) return;
    showPlace(written.editor.view, standsAt);
    if (standsAt) written.editor.goTo(standsAt, false);
  }, [standsAt, stops, written, ready, taste.keys]);
  useEffect(() => {
    if (line) written.editor?.goTo(line);
  }, [line, written]);
  useEffect(() => {
    if (gone || onDisk !== undefined) written.noticed(gone ? undefined : onDisk);
  }, [onDisk, gone, written]);
  const { dirty, theirs } = standing;
  const tell = useEffectEvent(tellDirty);
  useEffect(() => tell(dirty), [dirty]);
  return (
    <div className="file-board" data-file={path} data-dirty={dirty}>
      {theirs && (
        <Alert
          type="warning"
          showIcon
          title={theirs.tag === undefined ? say.isNotThereAny(path) : say.wasWrittenBySomebody(path)}
          description={say.whatYouWroteIs()}
          action={
            <Space wrap>
              {theirs.tag !== undefined && (
                <Button size="small" onClick={() => written.settle("compare")}>
                  {say.compare()}
                </Button>
              )}
              <Button size="small" onClick={() => written.settle("mine")}>
                {say.keepMine()}
              </Button>
              <Button size="small" onClick={() => written.settle("theirs")}>
                {theirs.tag === undefined ? say.giveMineUp() : say.takeTheirs()}
              </Button>
            </Space>
          }
        />
      )}
      <ProblemNote error={standing.problem} />
      <div className="editor-place" ref={box} />
      <div className="board-foot">
        <span className="quiet" role="status">
          {standing.saving ? say.saving() : standing.comparing ? say.comparedWithWhatIs() : dirty ? say.notSavedKeptIn() : standing.isNew ? say.newIt() : say.saved()}
        </span>
        <span className="spacer" />
        {language && bench && <Served by={server} language={language} ask={(run) => written.editor && (written.editor.view.focus(), run(written.editor.view))} />}
        {(dirty || standing.isNew) && (
          <Button size="small" type="text" onClick={() => void written.save()} disabled={standing.saving || !ready}>
            {say.save()}
          </Button>
        )}
      </div>
    </div>
  );
}

const nobody = () => () => undefined;

/** What serves a file's language, or what to do to have it served. */
function Served({ by: server, language, ask }: { by?: LanguageServer; language: BenchLanguage; ask: (run: (v: EditorView) => boolean) => void }) {
  const state = useSyncExternalStore(server?.subscribe ?? nobody, server?.now ?? (() => undefined));
  if (server && state?.is === "serving")
    return (
      <Dropdown
        trigger={["click"]}
        menu={{
          items: server.asks.map((a) => ({
            key: a.key,
            label: (
              <>
                {a.what} <span className="quiet small">{a.key}</span>
              </>
            ),
            onClick: () => ask(a.run),
          })),
        }}
      >
        <Button size="small" type="text" data-served={language.id} aria-label={say.whatMayBeAsked(state.name)}>
          {state.name}
        </Button>
      </Dropdown>
    );
  if (state?.is === "starting") return <span className="quiet">{say.begins(language.program)}</span>;
  const why = state?.is === "over" ? state.why.detail : say.nothingInTheWorkspace(language.id);
  return (
    <Popover
      title={why}
      content={
        <>
          {state?.is !== "over" && <pre className="said">{language.line}</pre>}
          {state?.is === "over" && (
            <Button size="small" onClick={() => server?.again()}>
              {say.beginItAgain()}
            </Button>
          )}
        </>
      }
    >
      <Button size="small" type="text" data-unserved={language.id}>
        {state?.is === "over" ? say.hasEnded(language.program) : say.noProgramFor(language.id)}
      </Button>
    </Popover>
  );
}
