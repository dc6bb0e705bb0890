import { CheckCircleFilled, CloseCircleFilled, WarningFilled } from "@ant-design/icons";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, AutoComplete, Button, Form, Input, Segmented, Select, Space, Table, Tooltip, Typography, theme } from "antd";
import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { nameOf, Problem, type Preflight } from "../api/client";
import { bytes, cores, money, span } from "../parts/amounts";
import { Findings } from "../parts/Findings";
import { PageHead } from "../parts/Page";
import { launch as launchIt, launched, preflight as aheadOf, type Launch } from "../service/launches";
import { branches as branchesOf, repositories as all } from "../service/repositories";
import { mineOf, start } from "../service/workspaces";
import { ProblemNote } from "../parts/ProblemNote";
import { GiveSecret } from "../parts/GiveSecret";
import { took, when } from "../parts/time";
import { useSettled } from "../parts/useSettled";

type Fields = { repository?: string; branch?: string; definition?: string; beside?: string[]; name?: string; size?: string; rest?: number };

/** The choices of a launch as they stand in the address. */
function toAddress(f: Fields): string {
  const a = new URLSearchParams();
  for (const key of ["repository", "branch", "definition", "name", "size"] as const) {
    const v = f[key]?.trim();
    if (v) a.set(key, v);
  }
  for (const b of f.beside ?? []) a.append("beside", b);
  if (f.rest) a.set("rest", String(f.rest));
  return a.toString();
}

function fromAddress(a: URLSearchParams): Fields {
  const text = (key: string) => a.get(key) ?? undefined;
  const rest = Number(a.get("rest"));
  return { repository: a.get("repository") ?? undefined, branch: text("branch"), definition: text("definition"), name: text("name"), size: text("size"), beside: a.getAll("beside"), rest: Number.isInteger(rest) && rest > 0 ? rest : undefined };
}

/** The sizes with their prices; the usual one stands chosen until another is. */
function Sizes({ of: p, usual, value, onChange }: { of?: Preflight; usual?: string; value?: string; onChange?: (size: string) => void }) {
  if (!p) return <span className="quiet">{value}</span>;
  return (
    <Segmented
      value={value ?? usual ?? ""}
      onChange={(v) => onChange?.(String(v))}
      options={p.sizes.map((s) => ({
        value: s.name,
        label: (
          <Tooltip title={`${cores(s.cores_milli)}, ${bytes(s.memory_bytes)} memory, ${bytes(s.disk_bytes)} disk${s.over ? `; it does not fit now: ${s.over}` : ""}`}>
            {s.name} <span className="quiet number">{money(s.hour_micros, p.currency)} an hour</span>
            {s.over && <span className="quiet">, too large now</span>}
          </Tooltip>
        ),
      }))}
    />
  );
}

/** The launch form, with what the launch would come to beside it. */
export function LaunchPage() {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [search, setSearch] = useSearchParams();
  const [form] = Form.useForm<Fields>();
  const [first] = useState(() => fromAddress(search));
  const fields = (Form.useWatch([], { form, preserve: true }) ?? first) as Fields;
  // The address is the form: it can be sent to somebody, or kept.
  const address = useSettled(toAddress(fields));
  useEffect(() => setSearch(address, { replace: true }), [address, setSearch]);
  const repositories = useQuery(all);
  const branches = useQuery({ ...branchesOf(fields.repository ?? ""), enabled: Boolean(fields.repository) });
  const repository = repositories.data?.find((r) => r.name === fields.repository);
  const body = (f: Fields) => ({ repository: f.repository ?? "", branch: f.branch?.trim() || undefined, definition: f.definition || undefined, beside: f.beside?.length ? f.beside : undefined, name: f.name?.trim() || undefined, size: f.size, rest_after_s: f.rest || undefined });
  const asked = useSettled(fields.repository ? JSON.stringify(body(fields)) : "");
  const preflight = useQuery({ ...aheadOf(asked ? (JSON.parse(asked) as Launch) : { repository: "" }), enabled: asked !== "", placeholderData: (old) => old });
  // What was said of another repository says nothing of this one; of another
  // choice for the same it stands, dimmed, until the new one is there.
  const p = fields.repository && preflight.data?.repository === fields.repository ? preflight.data : undefined;
  const unseen = preflight.isError && !(preflight.error instanceof Problem && preflight.error.status >= 400 && preflight.error.status < 500); // the look failed, not the launch
  const current = asked === (fields.repository ? JSON.stringify(body(fields)) : "") && !preflight.isPlaceholderData && preflight.isSuccess;
  const launch = useMutation({
    mutationFn: (f: Fields) => launchIt(body(f)),
    onSuccess: (w, f) => (launched(queries, body(f)), navigate(`/workspaces/${nameOf(w)}`)),
  });
  const rests = [30 * 60, 3600, 2 * 3600, 4 * 3600, 8 * 3600].filter((s) => !p || s <= p.rest_most_s);
  return (
    <>
      <PageHead title="Launch a workspace" />
      {p && <Have repository={p.repository} branch={p.branch} />}
      <div className="beside">
        <Form<Fields> form={form} layout="vertical" size="middle" initialValues={first} onFinish={() => launch.mutate(fields)}
          onValuesChange={(change: Partial<Fields>) => {
            if ("repository" in change) form.setFieldsValue({ definition: undefined, branch: undefined, beside: undefined });
          }}
        requiredMark={false}>
          <Form.Item name="repository" label="Repository" rules={[{ required: true, message: "Choose a repository" }]} extra={repository?.url}>
            <Select
              showSearch
              autoFocus
              loading={repositories.isPending}
              placeholder="Choose a repository"
              options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))}
              notFoundContent="No repository is registered yet; an operator does so with: yardbench repository add ADDRESS"
            />
          </Form.Item>
          <Form.Item name="branch" label="Branch">
            <AutoComplete
              allowClear
              placeholder={repository ? `${repository.default_branch}, the default` : "the repository's default"}
              showSearch={{ filterOption: (text, option) => (String(option?.value ?? "") + String((option as { words?: string } | undefined)?.words ?? "")).toLowerCase().includes(text.toLowerCase()) }}
              options={(branches.data ?? []).map((b) => ({
                value: b.name,
                words: b.request ? `pull request ${b.request} ${b.subject ?? ""}` : b.subject,
                label: (
                  <span title={b.subject}>
                    {b.request ? `pull request ${b.request}: ${b.subject ?? ""}` : b.name}{" "}
                    <span className="quiet">
                      {when(b.at)}
                      {b.prepared && (b.prepared.head ? ", prepared" : ", prepared, at an older commit")}
                    </span>
                  </span>
                ),
              }))}
            />
          </Form.Item>
          <Form.Item name="definition" label="Definition" hidden={!fields.definition && (p?.names.length ?? 0) < 2}>
            <Select allowClear placeholder="the first" options={(p?.names ?? []).filter(Boolean).map((n) => ({ value: n, label: n }))} />
          </Form.Item>
          <Form.Item name="beside" label="Beside it" extra="Further repositories, cloned side by side; NAME@BRANCH names a branch.">
            <Select mode="tags" maxCount={8} placeholder="none" options={repositories.data?.filter((r) => r.name !== fields.repository).map((r) => ({ value: r.name, label: r.name }))} />
          </Form.Item>
          <Form.Item name="name" label="Name" extra="Lower-case letters, digits and dashes. Yours to choose; nobody else's names are in the way.">
            <Input placeholder={repository ? `${repository.name}, or with a number where that is taken` : "the repository's"} spellCheck={false} maxLength={40} />
          </Form.Item>
          <Form.Item name="size" label="Size" hidden={!p && !fields.size}>
            <Sizes of={p} usual={p?.size} />
          </Form.Item>
          <Form.Item name="rest" label="Put to rest" extra="Closing a window is not stopping: without typing, read output, requests to its ports or a busy processor for so long, it is stopped.">
            <Select
              allowClear
              style={{ width: 260 }}
              placeholder={p ? `after ${span(p.rest_after_s)}, the usual time` : "after the usual time"}
              options={rests.map((s) => ({ value: s, label: `after ${span(s)} without work` }))}
            />
          </Form.Item>
          <Space orientation="vertical" size={16} style={{ width: "100%" }}>
            <ProblemNote error={repositories.error ?? launch.error} />
            <Space>
              <Button type="primary" htmlType="submit" loading={launch.isPending} disabled={!(current || unseen) || p?.refused}>
                Launch
              </Button>
              {fields.repository && (
                <Typography.Text type="secondary" copyable={{ text: `${location.origin}/launch?${toAddress(fields)}`, tooltips: ["Copy the link to this choice", "Copied"] }}>
                  a link to this choice
                </Typography.Text>
              )}
            </Space>
          </Space>
        </Form>
        <div>{fields.repository ? preflight.error ? <ProblemNote error={preflight.error} /> : p ? <div aria-busy={!current} style={{ opacity: current ? 1 : 0.5 }}><Ahead of={p} /></div> : <span className="quiet">Looking at the repository…</span> : <span className="quiet">Choose a repository, and this says what its launch will come to.</span>}</div>
      </div>
    </>
  );
}

/** The workspaces that one has of the same branch already: whoever follows a link to it again goes on in theirs. */
function Have({ repository, branch }: { repository: string; branch: string }) {
  const navigate = useNavigate();
  const mine = useQuery(mineOf(repository, branch));
  const goOn = useMutation({
    mutationFn: async (w: { name: string; owner: string; phase: string }) => (w.phase === "stopped" ? ((await start(nameOf(w))) ?? w) : w),
    onSuccess: (w) => navigate(`/workspaces/${nameOf(w)}`),
  });
  const have = (mine.data ?? []).filter((w) => w.branch === branch && !["removing", "removed"].includes(w.phase));
  return (
    <>
      {have.map((w) => (
        <Alert
          key={w.id}
          type="info"
          showIcon
          style={{ marginBottom: 12 }}
          title={`You have ${w.name} of this branch already: it is ${w.phase}.`}
          action={
            <Button size="small" loading={goOn.isPending} onClick={() => goOn.mutate(w)}>
              {w.phase === "stopped" ? "Start it and go on" : "Go on in it"}
            </Button>
          }
        />
      ))}
      <ProblemNote error={goOn.error} />
    </>
  );
}

/** What a launch would come to. */
function Ahead({ of: p }: { of: Preflight }) {
  const { token } = theme.useToken();
  const good = <CheckCircleFilled style={{ color: token.colorSuccess }} />;
  const attention = <WarningFilled style={{ color: token.colorWarning }} />;
  const over = <CloseCircleFilled style={{ color: token.colorError }} />;
  const [giving, setGiving] = useState<string>();
  return (
    <section aria-label="Before the launch" data-ahead={p.repository}>
      <h2>Before the launch</h2>
      <dl className="facts one">
        <dt>Makes</dt>
        <dd>
          {p.request ? `pull request ${p.request}` : p.branch} at <code>{p.commit.slice(0, 10)}</code>, by {p.definition || <>what is usual (<Link to="/starters">starters</Link> have definitions to begin from)</>}, image from {p.image}
          {p.set_up.length > 0 && <>; then {p.set_up.join(", ")}</>}
        </dd>
        {p.services.length > 0 && (
          <>
            <dt>Services</dt>
            <dd>{p.services.join(", ")}</dd>
          </>
        )}
        {p.beside.length > 0 && (
          <>
            <dt>Beside it</dt>
            <dd>{p.beside.join(", ")}</dd>
          </>
        )}
        {p.needs && (
          <>
            <dt>Needs</dt>
            <dd>{p.needs}</dd>
          </>
        )}
        <dt>Prepared</dt>
        <dd>
          {p.prepared ? (
            <>
              {good} image {p.prepared.number} of {when(p.prepared.made_at)}, {p.prepared.behind === 0 ? "at the branch's head" : `${p.prepared.behind} commits behind, brought in at the launch`}
            </>
          ) : (
            <>
              {attention} from scratch: {p.scratch}
            </>
          )}
        </dd>
        <dt>Ready in</dt>
        <dd className="number">{p.usual_ms ? `${took(p.usual_ms)} usually; 19 of 20 within ${took(p.slow_ms)}` : "not known: nobody has launched it so yet"}</dd>
        <dt>Costs</dt>
        <dd className="number">{money(p.hour_micros, p.currency)} an hour, its disk with it</dd>
        {p.findings.length > 0 && (
          <>
            <dt>Findings</dt>
            <dd>
              <Findings of={p.findings} />
            </dd>
          </>
        )}
        <dt>Secrets</dt>
        <dd>
          {!!p.request && (
            <>
              {attention} it gets none, and its pushes wait for you: what is in pull request {p.request} may be anybody&apos;s
            </>
          )}
          {!p.request && p.missing.length === 0 && <>{good} nothing that is asked for is missing</>}
          {p.missing.map((m) => (
            <div key={m.name}>
              {attention} <code>{m.name}</code> is missing{m.description && `: ${m.description}`}{" "}
              <Button size="small" onClick={() => setGiving(m.name)}>
                Give it
              </Button>
            </div>
          ))}
        </dd>
      </dl>
      <Table
        size="small"
        pagination={false}
        rowKey={(l) => l.kind + l.whose}
        dataSource={p.limits}
        locale={{ emptyText: "No limit applies." }}
        columns={[
          { title: "Limit", render: (_, l) => `${l.kind}, ${l.whose}` },
          {
            title: "Used + asked of allowed",
            render: (_, l) => (
              <>
                {l.over ? over : good} <span className="number">{l.text}</span>
              </>
            ),
          },
        ]}
      />
      {p.refused && <p style={{ color: token.colorError }}>It would be refused: a limit is exceeded. Stop or remove one of yours, or ask an operator for more.</p>}
      <GiveSecret name={giving} repository={p.repository} onClose={() => setGiving(undefined)} />
    </section>
  );
}
