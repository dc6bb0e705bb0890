import { useMutation, useQuery } from "@tanstack/react-query";
import { CheckCircleFilled, CloseCircleFilled, MinusCircleOutlined } from "@ant-design/icons";
import { Alert, Button, Select, Space, Spin, Table, Tabs, theme } from "antd";
import { useState } from "react";
import { Problem, nameOf, type Person, type Service, type Workspace } from "../api/client";
import { allowPush, heed as heedIt, services as servicesOf, sheet as oneSheet, sheets as sheetsOf, workspace as oneWorkspace } from "../service/workspaces";
import { bytes, cores, money } from "./amounts";
import { DayStrip } from "./DayStrip";
import { Entries } from "./Entries";
import { SSHLine } from "./Keys";
import { LogView } from "./LogView";
import { Ports } from "./Ports";
import { ProblemNote } from "./ProblemNote";
import { useAddress } from "./search";
import { SheetView } from "./SheetView";
import { State } from "./State";
import { exact, when } from "./time";
import { useDone } from "./useDone";
import { useFollow } from "./useFollow";
import { Actions } from "./WorkspaceActions";

/** One workspace whole: its state and what may be asked of it, what it is, how it came up, its log, its ports, its journal. */
export function Story({ name, person, head }: { name: string; person: Person; head?: boolean }) {
  const [get, set] = useAddress();
  const [chosen, setChosen] = useState<number>();
  const workspace = useQuery(oneWorkspace(name));
  const sheets = useQuery(sheetsOf(name));
  // The newest one is asked for as such: what began meanwhile is seen at once.
  const one = useQuery({ ...oneSheet(name, chosen), placeholderData: (old) => old });
  const follow = useFollow();
  const w = workspace.data;
  if (!w) return workspace.error ? <ProblemNote error={workspace.error} /> : <Spin />;
  const sheet = one.data;
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
      {/* What is open stays: a terminal, a form. */}
      <ProblemNote error={workspace.error} />
      <div className="page-head">
        {head && (
          <h1>
            {w.name}
            {!own && ` of ${w.owner}`}
          </h1>
        )}
        <State of={w} />
        <span className="spacer" />
        {own && (
          <Button type={w.phase === "ready" ? "primary" : "default"} {...follow(`/bench/${nameOf(w)}`)}>
            Bench
          </Button>
        )}
        <Actions of={w} person={person} small={!head} />
      </div>
      <dl className={head ? "facts" : "facts one"}>
        {w.adopted ? (
          <>
            <dt>Counted under</dt>
            <dd>{w.repository}</dd>
            <dt>Container</dt>
            <dd>{w.adopted}, started by others and taken on</dd>
          </>
        ) : (
          <>
            <dt>Repository</dt>
            <dd>
              {w.repository}, branch {w.branch}, made from <code>{w.commit.slice(0, 10)}</code>
            </dd>
            <dt>Definition</dt>
            <dd>{w.definition || "none: what is usual"}</dd>
          </>
        )}
        <dt>Folder</dt>
        <dd>
          {w.folder} as {w.user || "the image's user"}
        </dd>
        {own && (
          <>
            <dt>SSH</dt>
            <dd>
              <SSHLine of={w} />
            </dd>
          </>
        )}
        <dt>Image</dt>
        <dd>{w.image}</dd>
        {!w.adopted && <dt>Prepared</dt>}
        {!w.adopted && <dd>{w.prepared ? `image ${w.prepared.number} of ${when(w.prepared.made_at)}, ${w.prepared.behind === 0 ? "at the branch's head then" : `${w.prepared.behind} commits behind then`}` : `from scratch${w.scratch ? `: ${w.scratch}` : ""}`}</dd>}
        <dt>{w.adopted ? "Taken on" : "Launched"}</dt>
        <dd title={exact(w.created_at)}>{when(w.created_at)}</dd>
        <dt>Size</dt>
        <dd className="number">
          {w.size}: {cores(w.cores_milli)}, {bytes(w.memory_bytes)} memory, {w.disk_used_bytes > 0 && `${bytes(w.disk_used_bytes)} of `}
          {w.adopted ? "its disk not counted" : `${bytes(w.disk_bytes)} disk`}
        </dd>
        <dt>Cost</dt>
        <dd className="number">
          {money(w.cost_micros, w.currency)} so far, {money(w.idle_micros, w.currency)} of it idle; {money(w.hour_micros, w.currency)} an hour
        </dd>
        <dt>Last 24 hours</dt>
        <dd>
          <DayStrip day={w.day} width={280} />
        </dd>
        <dt>{w.removes_at ? "Is removed" : "Rest"}</dt>
        <dd>{w.removes_at ? `${when(w.removes_at)}, unless work in it exists nowhere else` : <Rest of={w} />}</dd>
      </dl>
      {w.rest?.warn && <Alert type="warning" showIcon style={{ marginBottom: 12 }} title={`It is put to rest at ${when(w.rest.stops_at)}: ${w.rest.last_sign} at ${when(w.rest.last_sign_at)}, and nothing since.`} description="Type something, or hold it." />}
      {w.phase === "stopped" && w.cause && <Alert type="info" showIcon style={{ marginBottom: 12 }} title={w.cause.charAt(0).toUpperCase() + w.cause.slice(1)} />}
      {w.phase === "failed" && <ProblemNote error={new Problem(0, `It failed in ${w.failed_in}: ${w.cause}`, "Start tries it again; after a push, Rebuild takes the branch's head.")} />}
      {w.conditions.map((c) => (
        <ConditionNote key={c.kind} of={c} workspace={w} />
      ))}
      <Tabs
        destroyOnHidden
        activeKey={get("view") ?? "sheet"}
        onChange={(view) => set({ view })}
        items={[
          { key: "sheet", label: "Launch sheet", children: sheet && <>{which}<SheetView sheet={sheet} causeTold={w.phase === "failed" && sheet.cause === w.cause} /></> },
          { key: "log", label: "Log", children: sheet && <>{which}<LogView key={sheet.number} address={`/api/v1/workspaces/${encodeURIComponent(name)}/log?sheet=${sheet.number}&follow=true`} /></> },
          ...(w.services > 0 ? [{ key: "services", label: "Services", children: <Services workspace={w} /> }] : []),
          { key: "ports", label: "Ports", children: <Ports workspace={w} own={own} /> },
          { key: "journal", label: "Journal", children: <Entries of={{ workspace: nameOf(w) }} /> },
        ]}
      />
    </>
  );
}

/** What a condition means, and what to do about it. */
function ConditionNote({ of: c, workspace: w }: { of: Workspace["conditions"][number]; workspace: Workspace }) {
  const heed = useMutation({ mutationFn: () => heedIt(nameOf(w)), ...useDone("workspaces") });
  const push = useMutation({
    mutationFn: (may: boolean) => allowPush(nameOf(w), may),
    ...useDone("workspaces"),
  });
  if (c.kind === "notice") {
    return (
      <Alert
        type="info"
        showIcon
        style={{ marginBottom: 8 }}
        title={`${c.reason} (${when(c.since)})`}
        action={
          <Button size="small" loading={heed.isPending} onClick={() => heed.mutate()}>
            I have read it
          </Button>
        }
      />
    );
  }
  if (c.kind === "push waits" || c.kind === "push allowed") {
    const waits = c.kind === "push waits";
    return (
      <Alert
        type={waits ? "warning" : "info"}
        showIcon
        style={{ marginBottom: 8 }}
        title={waits ? `something in it wanted to push (${when(c.since)})` : c.reason}
        description={waits ? "If that was you, allow it and push again. Nothing in the workspace can allow it itself." : undefined}
        action={
          <Space>
            {waits && (
              <Button size="small" type="primary" loading={push.isPending} onClick={() => push.mutate(true)}>
                Allow for 15 min
              </Button>
            )}
            <Button size="small" loading={push.isPending} onClick={() => push.mutate(false)}>
              {waits ? "Refuse" : "End it"}
            </Button>
          </Space>
        }
      />
    );
  }
  const next: Record<string, string> = {
    "set-up failed": "The workspace is there to be used; the log has the whole output.",
    "rebuild due": "It goes on as it is; Rebuild makes it anew and keeps its files.",
    "secrets changed": "What is opened from now on has the new values: end the old ones and open them again.",
    "disk full": "What is written fails until there is room again.",
    "out of memory": "End what is not needed, or launch one of a larger size.",
    "over limit": "Make room in its folder, or ask for a larger size.",
    "unpushed work": "Start it, and push or give up what is in it; it is not removed before.",
  };
  if (!next[c.kind]) return null;
  return <Alert type={c.kind === "set-up failed" ? "error" : "warning"} showIcon style={{ marginBottom: 8 }} title={`${c.kind}: ${c.reason}`} description={next[c.kind]} />;
}

/** What keeps a workspace awake, or when it is put to rest. */
function Rest({ of: w }: { of: Workspace }) {
  if (w.adopted) return <>it is never put to rest</>;
  if (!w.rest) return <>at rest</>;
  if (w.rest.held_until)
    return (
      <>
        held until {when(w.rest.held_until)}: {w.rest.hold_why}
      </>
    );
  return (
    <span title={exact(w.rest.last_sign_at)}>
      {w.rest.last_sign} at {when(w.rest.last_sign_at)}; put to rest at {when(w.rest.stops_at)} without another sign
    </span>
  );
}

/** The services beside a workspace, each with its state and its log. */
function Services({ workspace: w }: { workspace: Workspace }) {
  const { token } = theme.useToken();
  const services = useQuery(servicesOf(nameOf(w)));
  const colour = (state: Service["state"]) => (state === "failed" || state === "unhealthy" ? token.colorError : state === "healthy" || state === "running" ? token.colorSuccess : undefined);
  return (
    <>
      <ProblemNote error={services.error} />
      <Table<Service>
        size="small"
        rowKey="name"
        pagination={false}
        loading={services.isPending}
        dataSource={services.data}
        expandable={{ expandedRowRender: (s) => <LogView short address={`/api/v1/workspaces/${encodeURIComponent(nameOf(w))}/services/${encodeURIComponent(s.name)}/log`} /> }}
        columns={[
          { title: "Service", dataIndex: "name" },
          {
            title: "State",
            render: (_, s) => (
              <span data-service={s.name} style={{ color: colour(s.state) }}>
                {colour(s.state) === token.colorError ? <CloseCircleFilled /> : colour(s.state) ? <CheckCircleFilled /> : <MinusCircleOutlined />} {s.state}
                {s.problem && `: ${s.problem}`}
              </span>
            ),
          },
          { title: "Image", dataIndex: "image" },
          { title: "Ports", className: "number", render: (_, s) => s.ports.join(", ") },
          { title: "Waits for", render: (_, s) => s.needs.join(", ") },
        ]}
      />
      <p className="quiet">Open a row for what the service printed last.</p>
    </>
  );
}
