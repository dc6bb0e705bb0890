import { CheckCircleFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Dropdown, Form, Input, Modal, Select, Spin, Table, Tabs, Typography, theme } from "antd";
import { DownOutlined } from "@ant-design/icons";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { nameOf, type WorkspaceRow, type Me, may } from "../api/client";
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
import { when } from "words/times";
import { virtualFrom } from "../parts/virtual";
import { useDone } from "../parts/useDone";
import { plans } from "../service/prebuilds";
import { branches, change, definition, dropCredential, makeDeployKey, newPushKey, putCredential, remove, repository, type Repository } from "../service/repositories";
import { secrets } from "../service/secrets";
import { teams } from "../service/people";
import { workspaces } from "../service/workspaces";
import * as say from "words/pages/RepositoryPage";

/** One repository: its branches and what serves them, its plans and what they save, what is wrong with its definition, its secrets, its workspaces. */
export function RepositoryPage({ person }: { person: Me }) {
  const { repository: name = "" } = useParams();
  const [get, set] = useAddress();
  const navigate = useNavigate();
  const one = useQuery(repository(name));
  const r = one.data;
  if (!r) return one.error ? <ProblemNote error={one.error} /> : <Spin />;
  return (
    <>
      <PageHead
        title={r.name}
        action={
          <>
            {may(person, "repository.change") && <More of={r} />}
            {may(person, "workspace.launch") && (
              <Button type="primary" style={{ marginLeft: 8 }} onClick={() => void navigate(`/launch?repository=${r.name}`)}>
                {say.launch()}
              </Button>
            )}
          </>
        }
      >
        <Link to="/repositories">{say.allRepositories()}</Link>
      </PageHead>
      <ProblemNote error={one.error} />
      <dl className="facts">
        <dt>{say.address()}</dt>
        <dd>{r.url}</dd>
        <dt>{say.defaultBranch()}</dt>
        <dd>{r.default_branch}</dd>
        <dt>{say.prebuildsAre()}</dt>
        <dd>{r.team ? say.theMoneyOf(r.team) : say.nobodysMoney()}</dd>
        <dt>{say.prebuildsReadIt()}</dt>
        <dd>{r.deploy_key ? say.withAKeyOf() : r.own_credential ? say.withACredentialOf() : say.asNobody()}</dd>
        <dt>{say.pushes()}</dt>
        <dd>{r.signs_pushes ? say.itsGitHostTells() : say.areNotTold()}</dd>
        <dt>{say.definition()}</dt>
        <dd>
          <Found of={r.name} />
        </dd>
      </dl>
      <Tabs
        destroyOnHidden
        activeKey={get("view") ?? "branches"}
        onChange={(view) => set({ view })}
        items={[
          { key: "branches", label: say.branches(), children: <Branches of={r} person={person} /> },
          { key: "prebuilds", label: say.preparedAhead(), children: <Plans of={r.name} manages={may(person, "prebuild.change")} /> },
          { key: "workspaces", label: say.workspaces(), children: <Workspaces of={r.name} person={person} /> },
          { key: "secrets", label: say.secrets(), children: <Secrets of={r.name} manages={may(person, "repo-secret.change")} /> },
          { key: "journal", label: say.whatWasChanged(), children: <Entries of={{ repository: r.name }} /> },
        ]}
      />
    </>
  );
}

/** What is wrong with the definition at the default branch, in a line. */
function Found({ of }: { of: string }) {
  const { token } = theme.useToken();
  const check = useQuery(definition(of));
  const link = <Link to={`/repositories/${of}/definition`}>{say.whatItComesTo()}</Link>;
  if (check.error) return say.itCannotBeRead();
  if (!check.data) return <Spin size="small" />;
  if (check.data.findings.length === 0) {
    return (
      <>
        <CheckCircleFilled style={{ color: token.colorSuccess }} /> {say.nothingIsWrongWith(link)}
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

function Branches({ of: r, person }: { of: Repository; person: Me }) {
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
        locale={nothing(say.itHasNoBranches())}
        columns={[
          { title: say.branch(), width: 200, ellipsis: true, render: (_, b) => (b.request ? <span title={b.name}>{say.pullRequest(b.request)}</span> : b.default ? <b>{b.name}</b> : b.name) },
          { title: say.newestCommit(), width: 120, className: "number", render: (_, b) => when(b.at) },
          { title: say.subject(), width: 280, dataIndex: "subject", ellipsis: true },
          {
            title: say.prepared(),
            width: 150,
            render: (_, b) => (b.prepared ? <span style={{ color: b.prepared.head ? token.colorSuccess : undefined }}>{say.imageAtItsHead(b.prepared.number, b.prepared.head)}</span> : <span className="quiet">{say.no()}</span>),
          },
          { title: "", width: 110, align: "right", render: (_, b) => may(person, "workspace.launch") && <Link to={`/launch?repository=${r.name}&branch=${encodeURIComponent(b.name)}`}>{say.launchFromIt()}</Link> },
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
      {list.data?.map((p) => (
        <Plan key={p.branch} of={p} manages={manages} />
      ))}
      {list.data?.length === 0 && <p className="quiet">{say.nothingIsPreparedAhead()}</p>}
      {manages && <Button onClick={() => setPlanning(true)}>{say.planPrebuilds()}</Button>}
      {planning && <PutPlan repository={of} onClose={() => setPlanning(false)} />}
    </>
  );
}

function Workspaces({ of, person }: { of: string; person: Me }) {
  const list = useQuery(workspaces(may(person, "workspace.see", "team", "other")));
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
        locale={nothing(say.nobodyWhoseWorkspacesYou())}
        columns={[
          { title: say.workspace(), width: 180, render: (_, w) => <Link to={`/workspaces/${nameOf(w)}`}>{w.name}</Link> },
          { title: say.owner(), width: 110, dataIndex: "owner" },
          { title: say.branch(), width: 160, dataIndex: "branch", ellipsis: true },
          { title: say.state(), width: 250, render: (_, w) => <State of={w} line /> },
          { title: say.since(), width: 120, className: "number", render: (_, w) => when(w.phase_at) },
        ]}
      />
    </>
  );
}

function Secrets({ of, manages }: { of: string; manages: boolean }) {
  const list = useQuery(secrets({ level: "repository", name: of }));
  const [giving, setGiving] = useState(false);
  return (
    <>
      <ProblemNote error={list.error} />
      <SecretTable rows={list.data} loading={list.isPending} removable={manages} of={{ level: "repository", name: of }} empty={say.itHasNoSecrets()} />
      {manages && (
        <Button style={{ marginTop: 12 }} onClick={() => setGiving(true)}>
          {say.setASecret()}
        </Button>
      )}
      {giving && <GiveSecret of={{ level: "repository", name: of }} onClose={() => setGiving(false)} />}
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
        title: say.thePushKey(),
        content: (
          <>
            <p>{say.giveItToThe()}</p>
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
    { key: "change", label: say.change(), onClick: () => setAsked("change") },
    { key: "credential", label: say.whatPrebuildsReadIt(), onClick: () => setAsked("credential") },
    { key: "push", label: say.pushKey(), onClick: () => key.mutate() },
    {
      key: "remove",
      label: say.remove(),
      danger: true,
      onClick: () =>
        void modal.confirm({
          title: say.haveRegisteredNoMore(r.name),
          content: say.itsPlansGoWith(),
          okText: say.remove(),
          okButtonProps: { danger: true },
          onOk: () => gone.mutateAsync().catch(() => undefined),
        }),
    },
  ];
  return (
    <>
      <Dropdown trigger={["click"]} menu={{ items }}>
        <Button>{say.more(<DownOutlined />)}</Button>
      </Dropdown>
      {asked === "change" && <Change of={r} onClose={() => setAsked(undefined)} />}
      {asked === "credential" && (overSSH(r.url) ? <DeployKey of={r} onClose={() => setAsked(undefined)} /> : <Credential of={r} onClose={() => setAsked(undefined)} />)}
    </>
  );
}

type Fields = { url: string; default_branch: string; team: string };

function Change({ of: r, onClose }: { of: Repository; onClose: () => void }) {
  const all = useQuery(teams);
  const known = useQuery(branches(r.name));
  return (
    <Ask<Fields>
      title={say.changeOfName(r.name)}
      ok={say.change2()}
      initial={{ url: r.url, default_branch: r.default_branch, team: r.team ?? "" }}
      ask={(f) => change(r.name, { team: f.team, ...(f.url.trim() !== r.url ? { url: f.url.trim() } : {}), ...(f.default_branch !== r.default_branch ? { default_branch: f.default_branch } : {}) })}
      changes={["repositories", "branches", "preflight"]}
      onClose={onClose}
    >
      <Form.Item name="url" label={say.address()} rules={[{ required: true, message: say.itsAddressPlease() }]} extra={say.theGitHostIs()}>
        <Input spellCheck={false} />
      </Form.Item>
      <Form.Item name="default_branch" label={say.defaultBranch()} extra={say.whatIsMeantWhere()}>
        <Select showSearch loading={known.isPending} options={(known.data ?? []).map((b) => ({ value: b.name, label: b.name }))} />
      </Form.Item>
      <Form.Item name="team" label={say.whoseMoneyItsPrebuilds()}>
        <Select options={[{ value: "", label: say.noTeams() }, ...(all.data ?? []).map((t) => ({ value: t.name, label: t.name }))]} />
      </Form.Item>
    </Ask>
  );
}

/** The key that prebuilds of a repository read it with, where it is reached by SSH. */
function DeployKey({ of: r, onClose }: { of: Repository; onClose: () => void }) {
  const done = useDone("repositories");
  const make = useMutation({ mutationFn: () => makeDeployKey(r.name), ...done });
  const drop = useMutation({ mutationFn: () => dropCredential(r.name), ...done });
  return (
    <Modal
      open
      title={say.whatPrebuildsOfRead(r.name)}
      onCancel={onClose}
      footer={
        <>
          {r.deploy_key && (
            <Button danger style={{ float: "left" }} loading={drop.isPending} onClick={() => drop.mutate()}>
              {say.takeItAway()}
            </Button>
          )}
          <Button loading={make.isPending} onClick={() => make.mutate()}>
            {r.deploy_key ? say.makeAnotherKey() : say.makeAKey()}
          </Button>
          <Button type="primary" onClick={onClose}>
            {say.done()}
          </Button>
        </>
      }
    >
      <p className="quiet">{say.aKeyThatThe()}</p>
      <ProblemNote error={make.error ?? drop.error} />
      {r.deploy_key ? (
        <Typography.Paragraph code copyable style={{ wordBreak: "break-all" }}>
          {r.deploy_key}
        </Typography.Paragraph>
      ) : (
        <p>{say.thereIsNoKey()}</p>
      )}
    </Modal>
  );
}

const overSSH = (url: string) => !/^https?:/.test(url);

/** The credential that a repository's prebuilds read it with. */
function Credential({ of: r, onClose }: { of: Repository; onClose: () => void }) {
  const done = useDone("repositories");
  const drop = useMutation({ mutationFn: () => dropCredential(r.name), ...done, onSuccess: onClose });
  return (
    <Ask<{ username: string; password: string }>
      title={say.whatPrebuildsOfRead(r.name)}
      ok={say.useThis()}
      ask={(f) => putCredential(r.name, f)}
      changes={["repositories"]}
      onClose={onClose}
      footer={(buttons) => (
        <>
          {r.own_credential && (
            <Button danger style={{ float: "left" }} loading={drop.isPending} onClick={() => drop.mutate()}>
              {say.takeItAway()}
            </Button>
          )}
          {buttons}
        </>
      )}
    >
      <p className="quiet">{say.aCredentialThatThe()}</p>
      <Form.Item name="username" label={say.nameAtTheGit()} rules={[{ required: true, message: say.theNamePlease() }]}>
        <Input autoFocus spellCheck={false} autoComplete="off" />
      </Form.Item>
      <Form.Item name="password" label={say.passwordOrToken()} rules={[{ required: true, message: say.thePasswordOrToken() }]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
    </Ask>
  );
}
