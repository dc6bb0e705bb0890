import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Select, Space, Tabs } from "antd";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { Problem, api, nameOf, take, type Person, type Workspace } from "../api/client";
import { LogView } from "../parts/LogView";
import { ProblemNote } from "../parts/ProblemNote";
import { SheetView } from "../parts/SheetView";
import { State } from "../parts/State";
import { TerminalView } from "../parts/TerminalView";
import { exact, when } from "../parts/time";

/** One workspace: what it is, how it came up, its log, a terminal. */
export function WorkspacePage({ person }: { person: Person }) {
  const { name = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const [chosen, setChosen] = useState<number>();
  const workspace = useQuery({
    queryKey: ["workspaces", "one", name],
    queryFn: () => take(api.GET("/api/v1/workspaces/{workspace}", { params: { path: { workspace: name } } })),
  });
  const sheets = useQuery({
    queryKey: ["workspaces", "sheets", name],
    queryFn: () => take(api.GET("/api/v1/workspaces/{workspace}/sheets", { params: { path: { workspace: name } } })),
  });
  const w = workspace.data;
  if (workspace.error) return <ProblemNote error={workspace.error} />;
  if (!w) return null;
  const sheet = sheets.data?.find((s) => s.number === chosen) ?? sheets.data?.[0];
  const own = w.owner === person.name;
  const which = (sheets.data?.length ?? 0) > 1 && (
    <Select
      aria-label="Which launch sheet"
      style={{ minWidth: 230, marginBottom: 8 }}
      value={sheet?.number}
      onChange={(n: number) => setChosen(n === sheets.data?.[0]?.number ? undefined : n)}
      options={sheets.data?.map((s) => ({ value: s.number, label: `${s.number}: ${s.kind}, ${when(s.started_at)}, ${s.outcome || "under way"}` }))}
    />
  );
  return (
    <>
      <div className="page-head">
        <h1>
          {w.name}
          {!own && ` of ${w.owner}`}
        </h1>
        <State of={w} />
        <span className="spacer" />
        <Actions of={w} />
      </div>
      <dl className="facts">
        <dt>Repository</dt>
        <dd>
          {w.repository}, branch {w.branch}, made from <code>{w.commit.slice(0, 10)}</code>
        </dd>
        <dt>Definition</dt>
        <dd>{w.definition}</dd>
        <dt>Folder</dt>
        <dd>
          {w.folder} as {w.user || "the image's user"}
        </dd>
        <dt>Image</dt>
        <dd>{w.image}</dd>
        <dt>Launched</dt>
        <dd title={exact(w.created_at)}>{when(w.created_at)}</dd>
        <dt>Ports</dt>
        <dd>{w.ports.join(", ") || "none declared"}</dd>
      </dl>
      {w.phase === "failed" && <ProblemNote error={new Problem(0, `It failed in ${w.failed_in}: ${w.cause}`, "Start tries it again; after a push, Rebuild takes the branch's head.")} />}
      {w.conditions.map((c) => (
        <ProblemNote key={c.kind} error={c.kind === "set-up failed" ? new Problem(0, `${c.kind}: ${c.reason}`, "The workspace is there to be used; the log has the whole output.") : null} />
      ))}
      <Tabs
        destroyOnHidden
        activeKey={search.get("view") ?? "sheet"}
        onChange={(view) => setSearch({ view }, { replace: true })}
        items={[
          { key: "sheet", label: "Launch sheet", children: sheet && <>{which}<SheetView sheet={sheet} causeTold={w.phase === "failed" && sheet.cause === w.cause} /></> },
          { key: "log", label: "Log", children: sheet && <>{which}<LogView key={sheet.number} workspace={name} sheet={sheet.number} /></> },
          {
            key: "terminal",
            label: "Terminal",
            disabled: !own,
            children: w.phase === "ready" ? <TerminalView key={w.sheet} workspace={name} /> : <p>A terminal can be opened when the workspace is ready.</p>,
          },
        ]}
      />
    </>
  );
}

/** What may be asked of a workspace now. */
function Actions({ of: w }: { of: Workspace }) {
  const { modal, message } = App.useApp();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const path = { params: { path: { workspace: nameOf(w) } } };
  const failed = (e: Error) => modal.error({ title: `This was not done with ${w.name}`, content: <ProblemNote error={e} />, width: 640 });
  const ask = useMutation({
    mutationFn: (verb: "start" | "stop" | "rebuild") =>
      verb === "rebuild"
        ? take(api.POST("/api/v1/workspaces/{workspace}/rebuild", { ...path, body: {} }))
        : take(api.POST(verb === "start" ? "/api/v1/workspaces/{workspace}/start" : "/api/v1/workspaces/{workspace}/stop", path)),
    onError: failed,
    onSettled: () => queries.invalidateQueries({ queryKey: ["workspaces"] }),
  });
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/workspaces/{workspace}", path)),
    onError: failed,
    onSuccess: () => {
      void message.info(`${w.name} is being removed`);
      void navigate("/");
    },
  });
  const is = (...phases: Workspace["phase"][]) => phases.includes(w.phase);
  return (
    <Space>
      {is("stopped", "failed") && (
        <Button type="primary" onClick={() => ask.mutate("start")}>
          Start
        </Button>
      )}
      {is("waiting", "preparing", "starting", "ready") && <Button onClick={() => ask.mutate("stop")}>Stop</Button>}
      {is("ready", "stopped", "failed") && (
        <Button disabled={w.rebuilding} onClick={() => ask.mutate("rebuild")}>
          Rebuild
        </Button>
      )}
      {!is("removing", "removed") && (
        <Button
          danger
          onClick={() =>
            modal.confirm({
              title: `Remove ${w.name} with its files?`,
              content: "It is refused while work in it is not committed, not pushed, or cannot be looked at.",
              okText: "Remove",
              okButtonProps: { danger: true },
              onOk: () => remove.mutateAsync().catch(() => undefined),
            })
          }
        >
          Remove
        </Button>
      )}
    </Space>
  );
}
