import { CheckCircleFilled, CloseCircleFilled, LoadingOutlined, MinusCircleOutlined } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Checkbox, Form, Input, InputNumber, Modal, Select, Space, Table, Tooltip, Typography, theme } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Person, type PrebuildPlan, type PrebuildRun, type Repository, whole } from "../api/client";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { exact, took, when } from "../parts/time";
import { useDone } from "../parts/useDone";

/** Registered repositories, with the images that are prepared ahead of each. */
export function RepositoriesPage({ person }: { person: Person }) {
  const navigate = useNavigate();
  const { modal } = App.useApp();
  const [get, set] = useAddress();
  const [planning, setPlanning] = useState<{ repository: string; plan?: PrebuildPlan }>();
  const [adding, setAdding] = useState(false);
  const [credential, setCredential] = useState<Repository>();
  const manages = person.role === "operator" || person.role === "lead";
  const repositories = useQuery({ queryKey: ["repositories"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/repositories", { signal, params: { query: page } })) });
  const plans = useQuery({ queryKey: ["prebuilds", "plans"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/prebuild-plans", { signal, params: { query: page } })) });
  const done = useDone("prebuilds", "repositories");
  const key = useMutation({
    mutationFn: (repository: string) => take(api.POST("/api/v1/repositories/{repository}/push-keys", { params: { path: { repository } } })),
    ...done,
    onSuccess: (k) =>
      void modal.info({
        title: "The push key",
        content: (
          <>
            <p>Give it to the git host to sign the news of pushes with, as docs/pushes.md says. It takes the place of an older one, and is shown only now.</p>
            <Typography.Paragraph copyable code>
              {k.key}
            </Typography.Paragraph>
          </>
        ),
        width: 560,
      }),
  });
  const words = (get("find") ?? "").toLowerCase();
  const rows = (repositories.data ?? []).filter((r) => r.name.includes(words) || r.url.includes(words));
  const of = (r: Repository) => (plans.data ?? []).filter((p) => p.repository === r.name);
  return (
    <>
      <PageHead
        title="Repositories"
        action={
          person.role === "operator" && (
            <Button type="primary" onClick={() => setAdding(true)}>
              Register a repository
            </Button>
          )
        }
      >
        <Link to="/starters">Starters</Link>
        <Input allowClear placeholder="Find by name or address" aria-label="Find" style={{ width: 240 }} value={get("find") ?? ""} onChange={(e) => set({ find: e.target.value })} />
      </PageHead>
      <ProblemNote error={repositories.error ?? plans.error} />
      <Table<Repository>
        size="small"
        rowKey="name"
        pagination={false}
        loading={repositories.isPending || plans.isPending}
        dataSource={rows}
        locale={nothing(repositories.data?.length ? "No repository fits what you look for." : "No repository is registered yet. An operator registers those that workspaces are launched from.")}
        expandable={{
          expandedRowKeys: get("open")?.split(",") ?? [],
          onExpandedRowsChange: (keys) => set({ open: keys.join(",") }),
          rowExpandable: (r) => of(r).length > 0,
          expandedRowRender: (r) => of(r).map((p) => <Plan key={p.branch} of={p} manages={manages} onChange={() => setPlanning({ repository: r.name, plan: p })} />),
        }}
        columns={[
          {
            title: "Name",
            ellipsis: true,
            render: (_, r) => (
              <>
                <Link to={`/launch?repository=${r.name}`}>{r.name}</Link>
                <div className="quiet small" style={{ overflow: "hidden", textOverflow: "ellipsis" }} title={r.url}>
                  {r.url}
                </div>
              </>
            ),
            sorter: (a, b) => a.name.localeCompare(b.name),
            defaultSortOrder: "ascend",
          },
          { title: "Branch", dataIndex: "default_branch", width: 80, ellipsis: true },
          { title: "Prepared ahead", className: "nowrap", width: 220, render: (_, r) => (of(r).length === 0 ? <span className="quiet">no plan</span> : of(r).map((p) => <Newest key={p.branch} of={p} />)) },
          { title: "Team", width: 110, render: (_, r) => (person.role === "operator" ? <TeamOf of={r} /> : r.team) },
          {
            title: <Tooltip title="Whether its prebuilds sign in to the git host with a credential of its own, or as nobody">Reads</Tooltip>,
            width: 90,
            render: (_, r) => {
              const how = r.own_credential ? "as itself" : "as nobody";
              if (person.role !== "operator") return how;
              return (
                <Button type="link" size="small" style={{ padding: 0 }} title="Change the credential that its prebuilds read it with" onClick={() => setCredential(r)}>
                  {how}
                </Button>
              );
            },
          },
          { title: "Pushes", width: 80, render: (_, r) => (r.signs_pushes ? "signed" : "not told") },
          {
            title: "",
            align: "right",
            width: 400,
            render: (_, r) => (
              <Space>
                {person.role !== "auditor" && (
                  <Button size="small" onClick={() => navigate(`/launch?repository=${r.name}`)}>
                    Launch
                  </Button>
                )}
                <Button size="small" title="What its definition comes to, and what is wrong with it" onClick={() => navigate(`/repositories/${r.name}/definition`)}>
                  Definition
                </Button>
                {manages && (
                  <Button size="small" onClick={() => setPlanning({ repository: r.name })}>
                    Plan prebuilds
                  </Button>
                )}
                {person.role === "operator" && (
                  <Button size="small" onClick={() => key.mutate(r.name)}>
                    Push key
                  </Button>
                )}
              </Space>
            ),
          },
        ]}
      />
      {planning && <PutPlan {...planning} onClose={() => setPlanning(undefined)} />}
      {credential && <OwnCredential of={credential} onClose={() => setCredential(undefined)} />}
      {adding && <AddRepository onClose={() => setAdding(false)} />}
    </>
  );
}

function Newest({ of: p }: { of: PrebuildPlan }) {
  const { token } = theme.useToken();
  const good = p.runs.find((r) => r.serves);
  return (
    <div>
      {good ? (
        <Tooltip title={exact(good.started_at)}>
          <span style={{ color: token.colorSuccess }}>
            <CheckCircleFilled /> {p.branch}: image {good.number} of {when(good.started_at)}
          </span>
        </Tooltip>
      ) : (
        <span style={{ color: token.colorWarning }}>
          <MinusCircleOutlined /> {p.branch}: none serves yet
        </span>
      )}
    </div>
  );
}

function Plan({ of: p, manages, onChange }: { of: PrebuildPlan; manages: boolean; onChange: () => void }) {
  const { modal } = App.useApp();
  const done = useDone("prebuilds");
  const run = useMutation({ mutationFn: () => take(api.POST("/api/v1/repositories/{repository}/prebuild-runs", { params: { path: { repository: p.repository } }, body: { branch: p.branch } })), ...done });
  const drop = useMutation({ mutationFn: () => take(api.DELETE("/api/v1/repositories/{repository}/prebuild-plan", { params: { path: { repository: p.repository }, query: { branch: p.branch } } })), ...done });
  const triggers = [p.on_push && "on push", p.timetable && `by timetable ${p.timetable}${p.next_at ? `, next ${when(p.next_at)}` : ""}`, "by hand"].filter(Boolean).join("; ");
  return (
    <section aria-label={`Plan of ${p.repository}, ${p.branch}`} style={{ padding: "4px 0 12px" }}>
      <Space style={{ marginBottom: 8 }}>
        <span>
          <b>{p.branch}</b>: {triggers}; the last {p.keep} good are kept; by {p.made_by}
        </span>
        {manages && (
          <>
            <Button size="small" onClick={() => run.mutate()} loading={run.isPending}>
              Prepare now
            </Button>
            <Button size="small" onClick={onChange}>
              Change
            </Button>
            <Button
              size="small"
              danger
              onClick={() =>
                modal.confirm({
                  title: `Remove the plan of ${p.repository}, ${p.branch}?`,
                  content: "Its prepared images go with it; launches begin from scratch.",
                  okText: "Remove",
                  okButtonProps: { danger: true },
                  onOk: () => drop.mutateAsync().catch(() => undefined),
                })
              }
            >
              Remove
            </Button>
          </>
        )}
      </Space>
      <Table<PrebuildRun>
        size="small"
        rowKey="id"
        pagination={false}
        dataSource={p.runs}
        scroll={{ y: 300 }}
        locale={nothing("No run yet.")}
        columns={[
          { title: "Run", width: 60, align: "right", className: "number", render: (_, r) => <Link to={`/prebuild-runs/${r.id}`}>{r.number}</Link> },
          { title: "Begun", width: 150, render: (_, r) => <Tooltip title={exact(r.started_at)}>{when(r.started_at)}</Tooltip> },
          { title: "Took", width: 100, align: "right", className: "number", render: (_, r) => r.ended_at && took(Date.parse(r.ended_at) - Date.parse(r.started_at)) },
          { title: "Outcome", width: 170, render: (_, r) => <Outcome of={r} /> },
          { title: "Commit", width: 110, render: (_, r) => <code>{r.commit.slice(0, 10)}</code> },
          { title: "Why", dataIndex: "reason" },
        ]}
      />
    </section>
  );
}

export function Outcome({ of: r }: { of: PrebuildRun }) {
  const { token } = theme.useToken();
  if (!r.ended_at) {
    return (
      <span data-outcome="under way">
        <LoadingOutlined /> under way
      </span>
    );
  }
  if (r.outcome === "failed") {
    return (
      <Tooltip title={r.cause}>
        <span data-outcome="failed" style={{ color: token.colorError }}>
          <CloseCircleFilled /> failed
        </span>
      </Tooltip>
    );
  }
  return (
    <span data-outcome="done" style={{ color: r.serves ? token.colorSuccess : token.colorTextSecondary }}>
      <CheckCircleFilled /> {r.serves ? "done, serves" : "done, dropped"}
    </span>
  );
}

type PlanFields = { branch?: string; on_push: boolean; timetable?: string; keep: number };

function PutPlan({ repository, plan, onClose }: { repository: string; plan?: PrebuildPlan; onClose: () => void }) {
  const [form] = Form.useForm<PlanFields>();
  const { onSettled } = useDone("prebuilds");
  const put = useMutation({
    mutationFn: (f: PlanFields) => take(api.PUT("/api/v1/repositories/{repository}/prebuild-plan", { params: { path: { repository } }, body: { ...f, branch: f.branch?.trim() || undefined, timetable: f.timetable?.trim() || undefined } })),
    onSettled,
    onSuccess: onClose,
  });
  return (
    <Modal open title={`Prepare images of ${repository} ahead`} okText={plan ? "Change the plan" : "Make the plan"} onOk={() => form.submit()} confirmLoading={put.isPending} onCancel={onClose}>
      <Form<PlanFields> form={form} layout="vertical" requiredMark={false} initialValues={{ branch: plan?.branch, on_push: plan?.on_push ?? true, timetable: plan?.timetable, keep: plan?.keep ?? 2 }} onFinish={(f) => put.mutate(f)}>
        <Form.Item name="branch" label="Branch">
          <Input disabled={Boolean(plan)} placeholder="the default branch" spellCheck={false} />
        </Form.Item>
        <Form.Item name="on_push" valuePropName="checked" extra="Its git host must tell of pushes: an operator makes the key.">
          <Checkbox>On every push</Checkbox>
        </Form.Item>
        <Form.Item name="timetable" label="By the clock" extra="Minute, hour, day of the month, month, day of the week; in the house's time zone. Empty for not.">
          <Select
            allowClear
            showSearch
            mode={undefined}
            options={[
              { value: "30 5 * * 1-5", label: "30 5 * * 1-5: on working days at 05:30" },
              { value: "0 6 * * *", label: "0 6 * * *: every day at 06:00" },
              { value: "0 */4 * * *", label: "0 */4 * * *: every four hours" },
              ...(plan?.timetable && !["30 5 * * 1-5", "0 6 * * *", "0 */4 * * *"].includes(plan.timetable) ? [{ value: plan.timetable, label: plan.timetable }] : []),
            ]}
            placeholder="not by the clock"
          />
        </Form.Item>
        <Form.Item name="keep" label="Good images to keep">
          <InputNumber min={1} max={20} />
        </Form.Item>
        <ProblemNote error={put.error} />
      </Form>
    </Modal>
  );
}

/** Whose money a repository's prebuilds are, for who may say so. */
function TeamOf({ of: r }: { of: Repository }) {
  const teams = useQuery({ queryKey: ["team", "list"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/teams", { signal, params: { query: page } })) });
  const change = useMutation({ mutationFn: (team: string) => take(api.PATCH("/api/v1/repositories/{repository}", { params: { path: { repository: r.name } }, body: { team } })), ...useDone("repositories") });
  return (
    <Select
      size="small"
      variant="borderless"
      style={{ width: 104 }}
      aria-label={`Whose money the prebuilds of ${r.name} are`}
      value={r.team ?? ""}
      loading={change.isPending}
      options={[{ value: "", label: "no team" }, ...(teams.data ?? []).map((t) => ({ value: t.name, label: t.name }))]}
      onChange={(t: string) => change.mutate(t)}
    />
  );
}

/** The credential that a repository's prebuilds read it with. */
function OwnCredential({ of: r, onClose }: { of: Repository; onClose: () => void }) {
  const [form] = Form.useForm<{ username: string; password: string }>();
  const { onSettled } = useDone("repositories");
  const path = { path: { repository: r.name } };
  const put = useMutation({ mutationFn: (f: { username: string; password: string }) => take(api.PUT("/api/v1/repositories/{repository}/credential", { params: path, body: f })), onSettled, onSuccess: onClose });
  const drop = useMutation({ mutationFn: () => take(api.DELETE("/api/v1/repositories/{repository}/credential", { params: path })), onSettled, onSuccess: onClose });
  return (
    <Modal
      open
      title={`What prebuilds of ${r.name} read it with`}
      okText="Use this"
      onOk={() => form.submit()}
      confirmLoading={put.isPending}
      onCancel={onClose}
      footer={(_, { OkBtn, CancelBtn }) => (
        <>
          {r.own_credential && (
            <Button danger style={{ float: "left" }} loading={drop.isPending} onClick={() => drop.mutate()}>
              Take it away
            </Button>
          )}
          <CancelBtn />
          <OkBtn />
        </>
      )}
    >
      <p className="quiet">A credential that the git host lets read this repository and nothing else. Nobody's own is ever used for a prebuild. The git host is asked whether it is good.</p>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(f) => put.mutate(f)}>
        <Form.Item name="username" label="Name at the git host" rules={[{ required: true, message: "The name, please" }]}>
          <Input autoFocus spellCheck={false} autoComplete="off" />
        </Form.Item>
        <Form.Item name="password" label="Password or token" rules={[{ required: true, message: "The password or token, please" }]}>
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        <ProblemNote error={put.error ?? drop.error} />
      </Form>
    </Modal>
  );
}

function AddRepository({ onClose }: { onClose: () => void }) {
  const [form] = Form.useForm<{ url: string; name?: string }>();
  const { onSettled } = useDone("repositories");
  const add = useMutation({ mutationFn: (f: { url: string; name?: string }) => take(api.POST("/api/v1/repositories", { body: { url: f.url, name: f.name || undefined } })), onSettled, onSuccess: onClose });
  return (
    <Modal open title="Register a repository" okText="Register" onOk={() => form.submit()} confirmLoading={add.isPending} onCancel={onClose}>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(f) => add.mutate(f)}>
        <Form.Item name="url" label="Address" rules={[{ required: true, message: "Its address, please" }]}>
          <Input autoFocus spellCheck={false} placeholder="https://git.skerryline.example/tide-board.git" />
        </Form.Item>
        <Form.Item name="name" label="Name">
          <Input spellCheck={false} placeholder="the last part of the address" maxLength={40} />
        </Form.Item>
        <ProblemNote error={add.error} />
      </Form>
    </Modal>
  );
}
