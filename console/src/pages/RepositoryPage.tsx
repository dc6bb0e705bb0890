import { CheckCircleFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Dropdown, Form, Input, Select, Spin, Table, Tabs, Typography, theme } from "antd";
import { DownOutlined } from "@ant-design/icons";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { nameOf, type Person, type WorkspaceRow } from "../api/client";
import { Ask } from "../parts/Ask";
import { Entries } from "../parts/Entries";
import { Findings } from "../parts/Findings";
import { GiveSecret } from "../parts/GiveSecret";
import { nothing, PageHead } from "../parts/Page";
import { Plan, PutPlan } from "../parts/Prebuilds";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { SecretTable } from "../parts/SecretTable";
import { State } from "../parts/State";
import { when } from "../parts/time";
import { virtualFrom } from "../parts/virtual";
import { useDone } from "../parts/useDone";
import { plans } from "../service/prebuilds";
import { branches, change, definition, dropCredential, newPushKey, putCredential, remove, repository, secretsOf, type Repository } from "../service/repositories";
import { teams } from "../service/people";
import { workspaces } from "../service/workspaces";

/** One repository: its branches and what serves them, its plans and what they save, what is wrong with its definition, its secrets, its workspaces. */
export function RepositoryPage({ person }: { person: Person }) {
  const { repository: name = "" } = useParams();
  const [get, set] = useAddress();
  const navigate = useNavigate();
  const one = useQuery(repository(name));
  const r = one.data;
  if (!r) return one.error ? <ProblemNote error={one.error} /> : <Spin />;
  const manages = person.role === "operator" || person.role === "lead";
  return (
    <>
      <PageHead
        title={r.name}
        action={
          <>
            {person.role === "operator" && <More of={r} />}
            {person.role !== "auditor" && (
              <Button type="primary" style={{ marginLeft: 8 }} onClick={() => void navigate(`/launch?repository=${r.name}`)}>
                Launch
              </Button>
            )}
          </>
        }
      >
        <Link to="/repositories">All repositories</Link>
      </PageHead>
      <ProblemNote error={one.error} />
      <dl className="facts">
        <dt>Address</dt>
        <dd>{r.url}</dd>
        <dt>Default branch</dt>
        <dd>{r.default_branch}</dd>
        <dt>Prebuilds are</dt>
        <dd>{r.team ? `the money of ${r.team}` : "nobody's money"}</dd>
        <dt>Prebuilds read it</dt>
        <dd>{r.own_credential ? "with a credential of its own" : "as nobody"}</dd>
        <dt>Pushes</dt>
        <dd>{r.signs_pushes ? "its git host tells of them, signed" : "are not told"}</dd>
        <dt>Definition</dt>
        <dd>
          <Found of={r.name} />
        </dd>
      </dl>
      <Tabs
        destroyOnHidden
        activeKey={get("view") ?? "branches"}
        onChange={(view) => set({ view })}
        items={[
          { key: "branches", label: "Branches", children: <Branches of={r} person={person} /> },
          { key: "prebuilds", label: "Prepared ahead", children: <Plans of={r.name} manages={manages} /> },
          { key: "workspaces", label: "Workspaces", children: <Workspaces of={r.name} person={person} /> },
          { key: "secrets", label: "Secrets", children: <Secrets of={r.name} manages={manages} /> },
          { key: "journal", label: "What was changed", children: <Entries of={{ repository: r.name }} /> },
        ]}
      />
    </>
  );
}

/** What is wrong with the definition at the default branch, in a line. */
function Found({ of }: { of: string }) {
  const { token } = theme.useToken();
  const check = useQuery(definition(of));
  const link = <Link to={`/repositories/${of}/definition`}>what it comes to</Link>;
  if (check.error) return <>it cannot be read now</>;
  if (!check.data) return <Spin size="small" />;
  if (check.data.findings.length === 0) {
    return (
      <>
        <CheckCircleFilled style={{ color: token.colorSuccess }} /> nothing is wrong with it; {link}
      </>
    );
  }
  return (
    <>
      {link}
      <Findings of={check.data.findings} />
    </>
  );
}

function Branches({ of: r, person }: { of: Repository; person: Person }) {
  const { token } = theme.useToken();
  const list = useQuery(branches(r.name));
  return (
    <>
      <ProblemNote error={list.error} />
      <Table
        size="small"
        rowKey="name"
        {...virtualFrom(list.data, 860, 440)}
        pagination={false}
        loading={list.isPending}
        dataSource={list.data}
        locale={nothing("It has no branches.")}
        columns={[
          { title: "Branch", width: 200, ellipsis: true, render: (_, b) => (b.request ? <span title={b.name}>pull request {b.request}</span> : b.default ? <b>{b.name}</b> : b.name) },
          { title: "Newest commit", width: 120, className: "number", render: (_, b) => when(b.at) },
          { title: "Subject", width: 280, dataIndex: "subject", ellipsis: true },
          {
            title: "Prepared",
            width: 150,
            render: (_, b) =>
              b.prepared ? (
                <span style={{ color: b.prepared.head ? token.colorSuccess : undefined }}>
                  image {b.prepared.number}
                  {b.prepared.head ? ", at its head" : ", older"}
                </span>
              ) : (
                <span className="quiet">no</span>
              ),
          },
          { title: "", width: 110, align: "right", render: (_, b) => person.role !== "auditor" && <Link to={`/launch?repository=${r.name}&branch=${encodeURIComponent(b.name)}`}>Launch from it</Link> },
        ]}
      />
    </>
  );
}

function Plans({ of, manages }: { of: string; manages: boolean }) {
  const list = useQuery(plans(of));
  const [planning, setPlanning] = useState(false);
  return (
    <>
      <ProblemNote error={list.error} />
      {list.data?.map((p) => <Plan key={p.branch} of={p} manages={manages} />)}
      {list.data?.length === 0 && <p className="quiet">Nothing is prepared ahead: each launch begins from scratch.</p>}
      {manages && <Button onClick={() => setPlanning(true)}>Plan prebuilds</Button>}
      {planning && <PutPlan repository={of} onClose={() => setPlanning(false)} />}
    </>
  );
}

function Workspaces({ of, person }: { of: string; person: Person }) {
  const list = useQuery(workspaces(person.role !== "developer"));
  const rows = list.data?.filter((w) => w.repository === of);
  return (
    <>
      <ProblemNote error={list.error} />
      <Table<WorkspaceRow>
        size="small"
        rowKey="id"
        {...virtualFrom(rows, 700, 440)}
        pagination={false}
        loading={list.isPending}
        dataSource={rows}
        locale={nothing("Nobody whose workspaces you see has one of it.")}
        columns={[
          { title: "Workspace", width: 180, render: (_, w) => <Link to={`/workspaces/${nameOf(w)}`}>{w.name}</Link> },
          { title: "Owner", width: 110, dataIndex: "owner" },
          { title: "Branch", width: 160, dataIndex: "branch", ellipsis: true },
          { title: "State", width: 250, render: (_, w) => <State of={w} line /> },
          { title: "Since", width: 120, className: "number", render: (_, w) => when(w.phase_at) },
        ]}
      />
    </>
  );
}

function Secrets({ of, manages }: { of: string; manages: boolean }) {
  const list = useQuery(secretsOf(of));
  const [giving, setGiving] = useState(false);
  return (
    <>
      <ProblemNote error={list.error} />
      <SecretTable rows={list.data} loading={list.isPending} removable={manages} of={of} empty="It has no secrets of its own. A lead or operator sets those that everybody who works in it is to have." />
      {manages && (
        <Button style={{ marginTop: 12 }} onClick={() => setGiving(true)}>
          Set a secret
        </Button>
      )}
      <GiveSecret open={giving} of={of} onClose={() => setGiving(false)} />
    </>
  );
}

/** What an operator changes of a repository. */
function More({ of: r }: { of: Repository }) {
  const { modal } = App.useApp();
  const navigate = useNavigate();
  const [asked, setAsked] = useState<"change" | "credential">();
  const done = useDone("repositories", "prebuilds");
  const key = useMutation({
    mutationFn: () => newPushKey(r.name),
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
  const gone = useMutation({ mutationFn: () => remove(r.name), ...done, onSuccess: () => void navigate("/repositories") });
  const items = [
    { key: "change", label: "Change…", onClick: () => setAsked("change") },
    { key: "credential", label: "What prebuilds read it with…", onClick: () => setAsked("credential") },
    { key: "push", label: "Push key", onClick: () => key.mutate() },
    {
      key: "remove",
      label: "Remove",
      danger: true,
      onClick: () =>
        void modal.confirm({
          title: `Have ${r.name} registered no more?`,
          content: "Its plans go with their prepared images, and its secrets. What was used and written of it stays in cost and journal. Workspaces of it hold it.",
          okText: "Remove",
          okButtonProps: { danger: true },
          onOk: () => gone.mutateAsync().catch(() => undefined),
        }),
    },
  ];
  return (
    <>
      <Dropdown trigger={["click"]} menu={{ items }}>
        <Button>
          More <DownOutlined />
        </Button>
      </Dropdown>
      {asked === "change" && <Change of={r} onClose={() => setAsked(undefined)} />}
      {asked === "credential" && <Credential of={r} onClose={() => setAsked(undefined)} />}
    </>
  );
}

type Fields = { url: string; default_branch: string; team: string };

function Change({ of: r, onClose }: { of: Repository; onClose: () => void }) {
  const all = useQuery(teams);
  const known = useQuery(branches(r.name));
  return (
    <Ask<Fields>
      title={`Change ${r.name}`}
      ok="Change"
      initial={{ url: r.url, default_branch: r.default_branch, team: r.team ?? "" }}
      ask={(f) => change(r.name, { team: f.team, ...(f.url.trim() !== r.url ? { url: f.url.trim() } : {}), ...(f.default_branch !== r.default_branch ? { default_branch: f.default_branch } : {}) })}
      changes={["repositories", "branches", "preflight"]}
      onClose={onClose}
    >
      <Form.Item name="url" label="Address" rules={[{ required: true, message: "Its address, please" }]} extra="The git host is asked for it, as you. Workspaces of it stay, and fetch from there when they are made anew.">
        <Input spellCheck={false} />
      </Form.Item>
      <Form.Item name="default_branch" label="Default branch" extra="What is meant where no branch is named.">
        <Select showSearch loading={known.isPending} options={(known.data ?? []).map((b) => ({ value: b.name, label: b.name }))} />
      </Form.Item>
      <Form.Item name="team" label="Whose money its prebuilds are">
        <Select options={[{ value: "", label: "no team's" }, ...(all.data ?? []).map((t) => ({ value: t.name, label: t.name }))]} />
      </Form.Item>
    </Ask>
  );
}

/** The credential that a repository's prebuilds read it with. */
function Credential({ of: r, onClose }: { of: Repository; onClose: () => void }) {
  const done = useDone("repositories");
  const drop = useMutation({ mutationFn: () => dropCredential(r.name), ...done, onSuccess: onClose });
  return (
    <Ask<{ username: string; password: string }>
      title={`What prebuilds of ${r.name} read it with`}
      ok="Use this"
      ask={(f) => putCredential(r.name, f)}
      changes={["repositories"]}
      onClose={onClose}
      footer={(buttons) => (
        <>
          {r.own_credential && (
            <Button danger style={{ float: "left" }} loading={drop.isPending} onClick={() => drop.mutate()}>
              Take it away
            </Button>
          )}
          {buttons}
        </>
      )}
    >
      <p className="quiet">A credential that the git host lets read this repository and nothing else. Nobody&apos;s own is ever used for a prebuild. The git host is asked whether it is good.</p>
      <Form.Item name="username" label="Name at the git host" rules={[{ required: true, message: "The name, please" }]}>
        <Input autoFocus spellCheck={false} autoComplete="off" />
      </Form.Item>
      <Form.Item name="password" label="Password or token" rules={[{ required: true, message: "The password or token, please" }]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
    </Ask>
  );
}
