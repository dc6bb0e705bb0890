import { CheckCircleFilled, CloseCircleFilled, WarningFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Segmented, Select, Space, Table, Tooltip, theme } from "antd";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, nameOf, take, type Preflight } from "../api/client";
import { bytes, cores, money, span } from "../parts/amounts";
import { Findings } from "../parts/Findings";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { GiveSecret } from "../parts/GiveSecret";
import { took, when } from "../parts/time";
import { useSettled } from "../parts/useSettled";

type Fields = { repository: string; branch?: string; definition?: string; beside?: string[]; name?: string; size?: string; rest?: number };

/** The launch form, with what the launch would come to beside it. */
export function LaunchPage() {
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const [form] = Form.useForm<Fields>();
  const fields = (Form.useWatch([], form) ?? {}) as Fields;
  const repositories = useQuery({ queryKey: ["repositories"], queryFn: () => take(api.GET("/api/v1/repositories")) });
  const repository = repositories.data?.find((r) => r.name === fields.repository);
  const body = (f: Fields) => ({ repository: f.repository, branch: f.branch?.trim() || undefined, definition: f.definition || undefined, beside: f.beside?.length ? f.beside : undefined, name: f.name?.trim() || undefined, size: f.size, rest_after_s: f.rest || undefined });
  const asked = useSettled(JSON.stringify(fields.repository ? body(fields) : null));
  const preflight = useQuery({
    queryKey: ["preflight", asked],
    queryFn: () => take(api.POST("/api/v1/preflight", { body: JSON.parse(asked) as ReturnType<typeof body> })),
    enabled: asked !== "null",
    retry: false,
    placeholderData: (old) => old,
  });
  const p = fields.repository ? preflight.data : undefined;
  const launch = useMutation({
    mutationFn: (f: Fields) => take(api.POST("/api/v1/workspaces", { body: body(f) })),
    onSuccess: (w) => navigate(`/workspaces/${nameOf(w)}`),
  });
  const rests = [30 * 60, 3600, 2 * 3600, 4 * 3600, 8 * 3600].filter((s) => !p || s <= p.rest_most_s);
  return (
    <>
      <PageHead title="Launch a workspace" />
      <div className="beside">
        <Form<Fields> form={form} layout="vertical" size="middle" initialValues={{ repository: search.get("repository") ?? undefined, branch: search.get("branch") ?? undefined }} onFinish={(f) => launch.mutate(f)} requiredMark={false}>
          <Form.Item name="repository" label="Repository" rules={[{ required: true, message: "Choose a repository" }]} extra={repository?.url}>
            <Select
              showSearch
              autoFocus
              loading={repositories.isPending}
              placeholder="Choose a repository"
              options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))}
              notFoundContent="No repository is registered yet; an operator does so with: yardbench repos add ADDRESS"
            />
          </Form.Item>
          <Form.Item name="branch" label="Branch">
            <Input placeholder={repository ? `${repository.default_branch}, the default` : "the repository's default"} spellCheck={false} />
          </Form.Item>
          {p && p.names.length > 1 && (
            <Form.Item name="definition" label="Definition">
              <Select allowClear placeholder="the first" options={p.names.filter(Boolean).map((n) => ({ value: n, label: n }))} />
            </Form.Item>
          )}
          <Form.Item name="beside" label="Beside it" extra="Further repositories, cloned side by side; NAME@BRANCH names a branch.">
            <Select mode="tags" maxCount={8} placeholder="none" options={repositories.data?.filter((r) => r.name !== fields.repository).map((r) => ({ value: r.name, label: r.name }))} />
          </Form.Item>
          <Form.Item name="name" label="Name" extra="Lower-case letters, digits and dashes. Yours to choose; nobody else's names are in the way.">
            <Input placeholder={repository ? `${repository.name}, or with a number where that is taken` : "the repository's"} spellCheck={false} maxLength={40} />
          </Form.Item>
          {p && (
            <>
              <Form.Item name="size" label="Size">
                <Segmented
                  key={p.size}
                  options={p.sizes.map((s) => ({
                    value: s.name,
                    label: (
                      <Tooltip title={`${cores(s.cores_milli)}, ${bytes(s.memory_bytes)} memory, ${bytes(s.disk_bytes)} disk`}>
                        {s.name} <span className="quiet number">{money(s.hour_micros, p.currency)} an hour</span>
                      </Tooltip>
                    ),
                  }))}
                  defaultValue={p.size}
                />
              </Form.Item>
              <Form.Item name="rest" label="Put to rest" extra="Closing a window is not stopping: without typing, read output, requests to its ports or a busy processor for so long, it is stopped.">
                <Select
                  allowClear
                  style={{ width: 260 }}
                  placeholder={`after ${span(p.rest_after_s)}, the usual time`}
                  options={rests.map((s) => ({ value: s, label: `after ${span(s)} without work` }))}
                />
              </Form.Item>
            </>
          )}
          <Space orientation="vertical" size={16} style={{ width: "100%" }}>
            <ProblemNote error={repositories.error ?? launch.error} />
            <Button type="primary" htmlType="submit" loading={launch.isPending} disabled={p?.refused}>
              Launch
            </Button>
          </Space>
        </Form>
        <div>{fields.repository ? preflight.error ? <ProblemNote error={preflight.error} /> : p ? <Ahead of={p} /> : <span className="quiet">Looking at the repository…</span> : <span className="quiet">Choose a repository, and this says what its launch will come to.</span>}</div>
      </div>
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
          {p.branch} at <code>{p.commit.slice(0, 10)}</code>, by {p.definition || "what is usual"}, image from {p.image}
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
          {p.missing.length === 0 && <>{good} nothing that is asked for is missing</>}
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
