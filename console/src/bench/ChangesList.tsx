import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Checkbox, Input, Select, Space, Spin } from "antd";
import { useState } from "react";
import { nameOf, type Workspace } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { WouldBeLost } from "../parts/WouldBeLost";
import { branches, changes, choose, commit, fetchAll, push, switchTo, type ChangedFile, type Changes } from "../service/changes";
import type { Board } from "./boards";
import * as say from "words/bench/ChangesList";

/** useGit does something with a clone, and has what it changed read again. */
function useGit<V, R>(workspace: string, mutationFn: (v: V) => Promise<R>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn, onSettled: () => queries.invalidateQueries({ queryKey: ["changes", workspace] }) });
}

/** What is changed in the clones of a workspace, and the way from there to the git host. */
export function ChangesList({ workspace: w, open }: { workspace: Workspace; open: (b: Board, beside?: boolean) => void }) {
  const name = nameOf(w);
  const clones = useQuery(changes(name));
  if (clones.isPending) return <Spin />;
  return (
    <div className="list scrolls">
      <ProblemNote error={clones.error} />
      {clones.data?.length === 0 && <p className="quiet">{say.thereIsNoClone()}</p>}
      {clones.data?.map((c) => (
        <Clone key={c.folder} of={c} workspace={w} alone={clones.data.length === 1} open={open} />
      ))}
      <h3>{say.existsOnlyHere()}</h3>
      <WouldBeLost workspace={name} />
    </div>
  );
}

function Clone({ of: c, workspace: w, alone, open }: { of: Changes; workspace: Workspace; alone: boolean; open: (b: Board, beside?: boolean) => void }) {
  const name = nameOf(w);
  const { modal } = App.useApp();
  const [message, setMessage] = useState("");
  const [amend, setAmend] = useState(false);
  const [said, setSaid] = useState("");
  const chosen = useGit(name, (v: { verb: "stage" | "unstage" | "discard"; paths: string[] }) => choose(name, v.verb, { folder: c.folder, paths: v.paths }));
  const committed = useGit(name, async () => {
    const made = await commit(name, { folder: c.folder, message, amend });
    setMessage("");
    setAmend(false);
    setSaid(`${made.commit.slice(0, 10)}\n${made.output}`.trim());
  });
  const pushed = useGit(name, async () => setSaid((await push(name, c.folder)).output || "pushed"));
  const fetched = useGit(name, async () => setSaid((await fetchAll(name, c.folder)).output || say.nothingNew()));
  const staged = c.files.filter((f) => f.staged);
  const unstaged = c.files.filter((f) => f.unstaged);
  const busy = chosen.isPending || committed.isPending || pushed.isPending || fetched.isPending;
  const discard = (paths: string[]) =>
    modal.confirm({
      title: paths.length === 1 ? say.giveUpWhatIs(paths[0]) : say.giveUpWhatIsChanged(paths.length),
      content: say.itIsGoneThen(),
      okText: say.giveItUp(),
      okButtonProps: { danger: true },
      onOk: () => chosen.mutateAsync({ verb: "discard", paths }).catch(() => undefined),
    });
  const row = (f: ChangedFile, isStaged: boolean) => (
    <li key={f.path} className="change-row">
      <button type="button" className="plain" title={f.from ? say.before(f.from) : f.path} onClick={(e) => open({ kind: "change", folder: c.folder, path: f.path, staged: isStaged }, e.ctrlKey || e.metaKey)}>
        {f.path}
      </button>
      <span className="quiet small">{f.conflict ? say.conflict() : isStaged ? f.staged : f.unstaged}</span>
      {isStaged ? (
        <Button size="small" type="text" disabled={busy} aria-label={say.unstageOfPath(f.path)} onClick={() => chosen.mutate({ verb: "unstage", paths: [f.path] })}>
          {say.unstage()}
        </Button>
      ) : (
        <>
          <Button size="small" type="text" disabled={busy} aria-label={say.giveUpOfPath(f.path)} onClick={() => discard([f.path])}>
            {say.giveUp()}
          </Button>
          <Button size="small" type="text" disabled={busy} aria-label={say.stageOfPath(f.path)} onClick={() => chosen.mutate({ verb: "stage", paths: [f.path] })}>
            {say.stage()}
          </Button>
        </>
      )}
    </li>
  );
  return (
    <section aria-label={say.clone(c.folder)} data-clone={c.folder}>
      {!alone && <h3>{c.folder}</h3>}
      {c.problem && <p className="quiet">{say.itCannotBeLooked(c.problem)}</p>}
      <Space wrap size={4} className="list-head">
        <BranchChoice workspace={name} of={c} />
        {(c.ahead > 0 || c.behind > 0) && (
          <span className="quiet" title={say.commitsThatHasNot(c.ahead, c.upstream, c.behind)}>
            {c.ahead > 0 && `↑${c.ahead} `}
            {c.behind > 0 && `↓${c.behind}`}
          </span>
        )}
      </Space>
      <h3>
        {say.staged()} <span className="quiet">{staged.length || say.nothing()}</span>
        <span className="spacer" />
        {staged.length > 1 && (
          <Button size="small" type="text" disabled={busy} onClick={() => chosen.mutate({ verb: "unstage", paths: staged.map((f) => f.path) })}>
            {say.unstageAll()}
          </Button>
        )}
      </h3>
      <ul className="change-rows">{staged.map((f) => row(f, true))}</ul>
      <h3>
        {say.notStaged()} <span className="quiet">{unstaged.length || say.nothing()}</span>
        <span className="spacer" />
        {unstaged.length > 1 && (
          <Button size="small" type="text" disabled={busy} onClick={() => chosen.mutate({ verb: "stage", paths: unstaged.map((f) => f.path) })}>
            {say.stageAll()}
          </Button>
        )}
      </h3>
      <ul className="change-rows">{unstaged.map((f) => row(f, false))}</ul>
      {c.more && <p className="quiet">{say.thereAreMoreThan()}</p>}
      <Input.TextArea aria-label={say.commitMessage()} placeholder={say.whatTheCommitDoes()} autoSize={{ minRows: 2, maxRows: 8 }} value={message} onChange={(e) => setMessage(e.target.value)} />
      <Space wrap size={6} style={{ marginTop: 6 }}>
        <Button type="primary" size="small" loading={committed.isPending} disabled={!message.trim() || (staged.length === 0 && !amend)} onClick={() => committed.mutate(undefined)}>
          {say.commit()}
        </Button>
        <Button size="small" loading={pushed.isPending} disabled={busy && !pushed.isPending} onClick={() => pushed.mutate(undefined)}>
          {c.ahead > 0 ? say.pushOfAhead(c.ahead) : say.push()}
        </Button>
        <Button size="small" loading={fetched.isPending} disabled={busy && !fetched.isPending} onClick={() => fetched.mutate(undefined)}>
          {say.fetch()}
        </Button>
        <Checkbox checked={amend} onChange={(e) => setAmend(e.target.checked)}>
          {say.inPlaceOfThe()}
        </Checkbox>
      </Space>
      <ProblemNote error={chosen.error ?? committed.error ?? pushed.error ?? fetched.error} />
      {said && <pre className="said">{said}</pre>}
    </section>
  );
}

function BranchChoice({ workspace, of: c }: { workspace: string; of: Changes }) {
  const [asked, setAsked] = useState(false);
  const [text, setText] = useState("");
  const all = useQuery({ ...branches(workspace, c.folder), enabled: asked });
  const go = useGit(workspace, (v: { name: string; isNew: boolean }) => switchTo(workspace, { folder: c.folder, name: v.name, new: v.isNew }));
  const { modal } = App.useApp();
  const known = all.data?.filter((b) => !b.remote) ?? [];
  const remote = all.data?.filter((b) => b.remote && !known.some((k) => b.name.endsWith(`/${k.name}`))) ?? [];
  const name = text.trim();
  const fresh = name && !known.some((b) => b.name === name) ? [{ value: `new:${name}`, label: say.aNewBranch(name) }] : [];
  return (
    <Select
      showSearch={{
        onSearch: setText,
        filterOption: (input, o) =>
          String(o?.label ?? "")
            .toLowerCase()
            .includes(input.toLowerCase()),
      }}
      size="small"
      style={{ minWidth: 180 }}
      aria-label={say.branch()}
      value={c.branch ?? say.noneOutAt(c.commit?.slice(0, 10))}
      loading={all.isFetching || go.isPending}
      onOpenChange={(o) => o && setAsked(true)}
      onChange={(v: string) => go.mutateAsync(v.startsWith("new:") ? { name: v.slice(4), isNew: true } : { name: v, isNew: false }).catch((e: unknown) => void modal.error({ title: say.theBranchWasNot(), content: <ProblemNote error={e} />, width: 640 }))}
      options={[...known.map((b) => ({ value: b.name, label: b.name })), ...remote.map((b) => ({ value: b.name.replace(/^[^/]*\//, ""), label: say.notHereYet(b.name) })), ...fresh]}
    />
  );
}
