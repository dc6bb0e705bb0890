import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, AutoComplete, Button, Form, Input, Segmented, Select, Space, Tooltip, Typography } from "antd";
import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { may, nameOf, Problem, type Me, type Preflight } from "../api/client";
import { bytes, cores, money, span } from "words/amounts";
import { Ahead } from "../parts/Ahead";
import { MakeLaunchLink } from "../parts/MakeLaunchLink";
import { PageHead } from "../parts/Page";
import { launch as launchIt, launched, preflight as aheadOf, type Launch } from "../service/launches";
import { branches as branchesOf, repositories as all } from "../service/repositories";
import { mineOf, start } from "../service/workspaces";
import { ProblemNote } from "../parts/ProblemNote";
import { when } from "words/times";
import { useSettled } from "../parts/useSettled";
import * as say from "words/pages/LaunchPage";

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
          <Tooltip title={say.memoryDiskItDoes(cores(s.cores_milli), bytes(s.memory_bytes), bytes(s.disk_bytes), s.over)}>
            {s.name} <span className="quiet number">{say.anHour(money(s.hour_micros, p.currency))}</span>
            {s.over && <span className="quiet">{say.tooLargeNow()}</span>}
          </Tooltip>
        ),
      }))}
    />
  );
}

/** The launch form, with what the launch would come to beside it. */
export function LaunchPage({ person }: { person: Me }) {
  const [linking, setLinking] = useState(false);
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
      <PageHead title={say.launchAWorkspace()}>
        <Link to="/launch-links">{say.launchLinks()}</Link>
      </PageHead>
      {linking && <MakeLaunchLink launch={body(fields)} guests={may(person, "guest.change", "team", "other")} onClose={() => setLinking(false)} />}
      {p && <Have repository={p.repository} branch={p.branch} />}
      <div className="beside">
        <Form<Fields>
          form={form}
          layout="vertical"
          size="middle"
          initialValues={first}
          onFinish={() => launch.mutate(fields)}
          onValuesChange={(change: Partial<Fields>) => {
            if ("repository" in change) form.setFieldsValue({ definition: undefined, branch: undefined, beside: undefined });
          }}
          requiredMark={false}
        >
          <Form.Item name="repository" label={say.repository()} rules={[{ required: true, message: say.chooseARepository() }]} extra={repository?.url}>
            <Select showSearch autoFocus loading={repositories.isPending} placeholder={say.chooseARepository()} options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))} notFoundContent={say.noRepositoryIsRegistered()} />
          </Form.Item>
          <Form.Item name="branch" label={say.branch()}>
            <AutoComplete
              allowClear
              placeholder={repository ? say.theDefault(repository.default_branch) : say.theRepositorysDefault()}
              showSearch={{ filterOption: (text, option) => (String(option?.value ?? "") + String((option as { words?: string } | undefined)?.words ?? "")).toLowerCase().includes(text.toLowerCase()) }}
              options={(branches.data ?? []).map((b) => ({
                value: b.name,
                words: b.request ? say.pullRequest(b.request, b.subject ?? "") : b.subject,
                label: (
                  <span title={b.subject}>
                    {b.request ? say.pullRequestOfRequest(b.request, b.subject ?? "") : b.name}{" "}
                    <span className="quiet">
                      {when(b.at)}
                      {b.prepared && (b.prepared.head ? say.prepared() : say.preparedAtAnOlder())}
                    </span>
                  </span>
                ),
              }))}
            />
          </Form.Item>
          <Form.Item name="definition" label={say.definition()} hidden={!fields.definition && (p?.names.length ?? 0) < 2}>
            <Select allowClear placeholder={say.theFirst()} options={(p?.names ?? []).filter(Boolean).map((n) => ({ value: n, label: n }))} />
          </Form.Item>
          <Form.Item name="beside" label={say.besideIt()} extra={say.furtherRepositoriesClonedSide()}>
            <Select mode="tags" maxCount={8} placeholder={say.none()} options={repositories.data?.filter((r) => r.name !== fields.repository).map((r) => ({ value: r.name, label: r.name }))} />
          </Form.Item>
          <Form.Item name="name" label={say.name()} extra={say.lowerCaseLettersDigits()}>
            <Input placeholder={repository ? say.orWithANumber(repository.name) : say.theRepositorys()} spellCheck={false} maxLength={40} />
          </Form.Item>
          <Form.Item name="size" label={say.size()} hidden={!p && !fields.size}>
            <Sizes of={p} usual={p?.size} />
          </Form.Item>
          <Form.Item name="rest" label={say.putToRest()} extra={say.closingAWindowIs()}>
            <Select allowClear style={{ width: 260 }} placeholder={p ? say.afterTheUsualTimeOfRestAfter(span(p.rest_after_s)) : say.afterTheUsualTime()} options={rests.map((s) => ({ value: s, label: say.afterWithoutWork(span(s)) }))} />
          </Form.Item>
          <Space orientation="vertical" size={16} style={{ width: "100%" }}>
            <ProblemNote error={repositories.error ?? launch.error} />
            <Space>
              <Button type="primary" htmlType="submit" loading={launch.isPending} disabled={!(current || unseen) || p?.refused}>
                {say.launch()}
              </Button>
              {fields.repository && (
                <Typography.Text type="secondary" copyable={{ text: `${location.origin}/launch?${toAddress(fields)}`, tooltips: [say.copyTheLinkTo(), say.copied()] }}>
                  {say.aLinkToThis()}
                </Typography.Text>
              )}
              {fields.repository && current && may(person, "launch-link.change") && <Button onClick={() => setLinking(true)}>{say.makeALaunchLink()}</Button>}
            </Space>
          </Space>
        </Form>
        <div>
          {fields.repository ? (
            preflight.error ? (
              <ProblemNote error={preflight.error} />
            ) : p ? (
              <div aria-busy={!current} style={{ opacity: current ? 1 : 0.5 }}>
                <Ahead of={p} />
              </div>
            ) : (
              <span className="quiet">{say.lookingAtTheRepository()}</span>
            )
          ) : (
            <span className="quiet">{say.chooseARepositoryAnd()}</span>
          )}
        </div>
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
          title={say.youHaveOfThis(w.name, w.phase)}
          action={
            <Button size="small" loading={goOn.isPending} onClick={() => goOn.mutate(w)}>
              {w.phase === "stopped" ? say.startItAndGo() : say.goOnInIt()}
            </Button>
          }
        />
      ))}
      <ProblemNote error={goOn.error} />
    </>
  );
}
