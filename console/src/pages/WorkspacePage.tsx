import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { CheckCircleFilled, CloseCircleFilled, MinusCircleOutlined } from "@ant-design/icons";
import { Alert, App, Button, Form, Input, Modal, Select, Space, Spin, Table, Tabs, theme } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { Problem, api, nameOf, take, type Person, type Port, type Service, type Workspace, whole } from "../api/client";
import { bytes, cores, money } from "../parts/amounts";
import { DayStrip } from "../parts/DayStrip";
import { SSHLine } from "../parts/Keys";
import { LogView } from "../parts/LogView";
import { LookLinks } from "../parts/LookLinks";
import { nothing } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { SheetView } from "../parts/SheetView";
import { State } from "../parts/State";
import { Terminals } from "../parts/Looks";
import { exact, when } from "../parts/time";
import { useDone } from "../parts/useDone";


/** One workspace: what it is, how it came up, its log, a terminal. */
export function WorkspacePage({ person }: { person: Person }) {
  const { name = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const [chosen, setChosen] = useState<number>();
  const workspace = useQuery({
    queryKey: ["workspaces", "one", name],
    queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}", { signal, params: { path: { workspace: name } } })),
    refetchInterval: 30_000, // the newest sign of work
  });
  const sheets = useQuery({
    queryKey: ["workspaces", "sheets", name],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/sheets", { signal, params: { path: { workspace: name }, query: page } })),
  });
  // The newest one is asked for as such: what began meanwhile is seen at once.
  const one = useQuery({
    queryKey: ["workspaces", "sheet", name, chosen ?? 0],
    queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}/sheets/{sheet}", { signal, params: { path: { workspace: name, sheet: chosen ?? 0 } } })),
    placeholderData: (old) => old,
  });
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
      {/* What is open on the page stays: a terminal, a form. */}
      <ProblemNote error={workspace.error} />
      <div className="page-head">
        <h1>
          {w.name}
          {!own && ` of ${w.owner}`}
        </h1>
        <State of={w} />
        <span className="spacer" />
        <Link to={`/journal?workspace=${nameOf(w)}`}>Journal</Link>
        <Actions of={w} person={person} />
      </div>
      <dl className="facts">
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
        activeKey={search.get("view") ?? "sheet"}
        onChange={(view) => setSearch({ view }, { replace: true })}
        items={[
          { key: "sheet", label: "Launch sheet", children: sheet && <>{which}<SheetView sheet={sheet} causeTold={w.phase === "failed" && sheet.cause === w.cause} /></> },
          { key: "log", label: "Log", children: sheet && <>{which}<LogView key={sheet.number} address={`/api/v1/workspaces/${encodeURIComponent(name)}/log?sheet=${sheet.number}&follow=true`} /></> },
          ...(w.services > 0 ? [{ key: "services", label: "Services", children: <Services workspace={w} /> }] : []),
          { key: "ports", label: "Ports", children: <Ports workspace={w} own={own} /> },
          {
            key: "terminal",
            label: "Terminal",
            disabled: !own,
            children: w.phase === "ready" ? (
              <Terminals key={w.sheet} workspace={nameOf(w)} />
            ) : <p>A terminal can be opened when the workspace is ready.</p>,
          },
        ]}
      />
    </>
  );
}

/** What a condition means, and what to do about it. */
function ConditionNote({ of: c, workspace: w }: { of: Workspace["conditions"][number]; workspace: Workspace }) {
  const heed = useMutation({ mutationFn: () => take(api.DELETE("/api/v1/workspaces/{workspace}/notice", { params: { path: { workspace: nameOf(w) } } })), ...useDone("workspaces") });
  const push = useMutation({
    mutationFn: (may: boolean) => {
      const at = { params: { path: { workspace: nameOf(w) } } };
      return may ? take(api.PUT("/api/v1/workspaces/{workspace}/push", at)) : take(api.DELETE("/api/v1/workspaces/{workspace}/push", at));
    },
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

const visitors: { value: Port["visitors"]; label: string }[] = [
  { value: "owner", label: "only its owner" },
  { value: "team", label: "the owner's team" },
  { value: "everybody", label: "everybody signed in" },
  { value: "public", label: "anybody at all" },
];

/** The ports of a workspace: what listens, where it is reached, and who may visit it. */
function Ports({ workspace: w, own }: { workspace: Workspace; own: boolean }) {
  const { token } = theme.useToken();
  const path = { workspace: nameOf(w) };
  const ports = useQuery({ queryKey: ["workspaces", "ports", nameOf(w)], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/ports", { signal, params: { path, query: page } })) });
  const done = useDone("workspaces");
  const share = useMutation({ mutationFn: ([p, visitors]: [Port, Port["visitors"]]) => take(api.PUT("/api/v1/workspaces/{workspace}/ports/{port}", { params: { path: { ...path, port: p.number } }, body: { visitors } })), ...done });
  return (
    <>
      <ProblemNote error={ports.error ?? share.error} />
      <Table<Port>
        size="small"
        rowKey="number"
        pagination={false}
        loading={ports.isPending}
        dataSource={ports.data}
        locale={nothing("The definition forwards no port, and nothing listens. What begins to listen shows here within seconds.")}
        columns={[
          { title: "Port", dataIndex: "number", align: "right", className: "number", width: 80 },
          { title: "What", render: (_, p) => p.label || <span className="quiet">{p.declared ? "declared" : "not declared"}</span> },
          {
            title: "Listens",
            render: (_, p) =>
              p.listening ? (
                <span data-listening={p.number} style={{ color: token.colorSuccess }}>
                  <CheckCircleFilled /> {p.process}
                  {p.loopback && ", on loopback only"}
                </span>
              ) : (
                <span className="quiet">
                  <MinusCircleOutlined /> nothing
                </span>
              ),
          },
          {
            title: "Address",
            render: (_, p) => (
              <a href={p.address} target="_blank" rel="noreferrer">
                {p.address}
              </a>
            ),
          },
          {
            title: "Who may visit",
            render: (_, p) => (
              <>
                {own ? (
                  <Select size="small" style={{ minWidth: 170 }} value={p.visitors} aria-label={`Who may visit port ${p.number}`} options={visitors} onChange={(v) => share.mutate([p, v])} />
                ) : (
                  visitors.find((v) => v.value === p.visitors)?.label
                )}
                {p.until && <span className="quiet"> until {when(p.until)}</span>}
              </>
            ),
          },
        ]}
      />
      <p className="quiet">
        To this machine: <code>yardbench forward {w.name} PORT</code>
      </p>
      {own && <LookLinks workspace={nameOf(w)} ports={(ports.data ?? []).map((p) => p.number)} />}
    </>
  );
}

/** The services beside a workspace, each with its state and its log. */
function Services({ workspace: w }: { workspace: Workspace }) {
  const { token } = theme.useToken();
  const path = { workspace: nameOf(w) };
  const services = useQuery({ queryKey: ["workspaces", "services", nameOf(w)], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/services", { signal, params: { path, query: page } })), refetchInterval: 5_000 });
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

/** Asks how long to hold a workspace, and why. */
function Hold({ of: w }: { of: Workspace }) {
  const [form] = Form.useForm<{ seconds: number; why: string }>();
  const [open, setOpen] = useState(false);
  const path = { params: { path: { workspace: nameOf(w) } } };
  const done = useDone("workspaces");
  const hold = useMutation({ mutationFn: (body: { seconds: number; why: string }) => take(api.PUT("/api/v1/workspaces/{workspace}/hold", { ...path, body })), onSettled: done.onSettled, onSuccess: () => setOpen(false) });
  const end = useMutation({ mutationFn: () => take(api.DELETE("/api/v1/workspaces/{workspace}/hold", path)), ...done });
  if (w.rest?.held_until) return <Button onClick={() => end.mutate()}>Let it rest</Button>;
  return (
    <>
      <Button onClick={() => setOpen(true)}>Hold</Button>
      <Modal open={open} title={`Keep ${w.name} from being put to rest`} okText="Hold" onOk={() => form.submit()} confirmLoading={hold.isPending} onCancel={() => setOpen(false)} destroyOnHidden>
        <Form form={form} layout="vertical" requiredMark={false} initialValues={{ seconds: 7200 }} onFinish={(f) => hold.mutate(f)}>
          <Form.Item name="seconds" label="For">
            <Select options={[1, 2, 4, 8, 12].map((h) => ({ value: h * 3600, label: `${h} h` }))} />
          </Form.Item>
          <Form.Item name="why" label="Why" rules={[{ required: true, message: "Say why" }]}>
            <Input autoFocus maxLength={300} placeholder="a long test runs" />
          </Form.Item>
          <ProblemNote error={hold.error} />
        </Form>
      </Modal>
    </>
  );
}

/** What may be asked of a workspace now, by whoever looks. */
function Actions({ of: w, person }: { of: Workspace; person: Person }) {
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
    mutationFn: () => take(w.adopted ? api.POST("/api/v1/workspaces/{workspace}/let-go", path) : api.DELETE("/api/v1/workspaces/{workspace}", path)),
    onError: failed,
    onSuccess: () => {
      void message.info(`${w.name} is being ${w.adopted ? "let go" : "removed"}`);
      void navigate("/");
    },
  });
  const drives = w.owner === person.name || person.role === "operator";
  const stops = drives || person.role === "lead";
  const is = (...phases: Workspace["phase"][]) => phases.includes(w.phase);
  return (
    <Space>
      {drives && is("ready") && !w.adopted && <Hold of={w} />}
      {drives && is("stopped", "failed") && (
        <Button type="primary" onClick={() => ask.mutate("start")}>
          Start
        </Button>
      )}
      {stops && is("waiting", "preparing", "starting", "ready") && <Button onClick={() => ask.mutate("stop")}>Stop</Button>}
      {drives && !w.adopted && is("ready", "stopped", "failed") && (
        <Button disabled={w.rebuilding} onClick={() => ask.mutate("rebuild")}>
          Rebuild
        </Button>
      )}
      {w.adopted && person.role === "operator" && !is("removing", "removed") && (
        <Button
          onClick={() =>
            modal.confirm({
              title: `Let ${w.adopted} go?`,
              content: "Terminals and commands that were opened through it end. The container goes on as it is, and counts for nobody.",
              okText: "Let it go",
              onOk: () => remove.mutateAsync().catch(() => undefined),
            })
          }
        >
          Let go
        </Button>
      )}
      {drives && !w.adopted && !is("removing", "removed") && (
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
