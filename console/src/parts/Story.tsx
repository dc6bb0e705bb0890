import { useMutation, useQuery } from "@tanstack/react-query";
import { CheckCircleFilled, CloseCircleFilled, MinusCircleOutlined } from "@ant-design/icons";
import { Alert, App, Button, Select, Space, Spin, Table, Tabs, theme } from "antd";
import { useState } from "react";
import { Problem, may, nameOf, whose, type Service, type Workspace, type Me } from "../api/client";
import { allowPush, heed as heedIt, services as servicesOf, sheet as oneSheet, sheets as sheetsOf, workspace as oneWorkspace } from "../service/workspaces";
import { bytes, cores, money } from "words/amounts";
import { DayStrip } from "./DayStrip";
import { Entries } from "./Entries";
import { GiveSecret } from "./GiveSecret";
import { SSHLine } from "./Keys";
import { LogView } from "./LogView";
import { Ports } from "./Ports";
import { ProblemNote } from "./ProblemNote";
import { SecretChoices } from "./SecretChoices";
import { useAddress } from "./search";
import { explainedIn, renew as renewIt } from "../service/secrets";
import { SheetView } from "./SheetView";
import { State } from "./State";
import { exact, when } from "words/times";
import { useDone } from "./useDone";
import { useFollow } from "./useFollow";
import { Actions } from "./WorkspaceActions";
import * as say from "words/parts/Story";

/** One workspace whole: its state and what may be asked of it, what it is, how it came up, its log, its ports, its journal. */
export function Story({ name, person, head }: { name: string; person: Me; head?: boolean }) {
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
      aria-label={say.whichLaunchSheet()}
      style={{ minWidth: 230, marginBottom: 8 }}
      value={sheet?.number}
      onChange={(n: number) => setChosen(n === sheets.data?.[0]?.number ? undefined : n)}
      options={sheets.data?.map((s) => ({ value: s.number, label: `${s.number}: ${s.kind}, ${when(s.started_at)}, ${s.outcome || say.underWay()}` }))}
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
            {!own && say.of(w.owner)}
          </h1>
        )}
        <State of={w} />
        <span className="spacer" />
        {own && (
          <Button type={w.phase === "ready" ? "primary" : "default"} {...follow(`/bench/${nameOf(w)}`)}>
            {say.bench()}
          </Button>
        )}
        {!own && w.phase === "ready" && may(person, "workspace.enter", whose(person, w)) && <Button {...follow(`/workspaces/${nameOf(w)}/entry`)}>{say.comeIn()}</Button>}
        <Actions of={w} person={person} small={!head} />
      </div>
      <dl className={head ? "facts" : "facts one"}>
        {w.adopted ? (
          <>
            <dt>{say.countedUnder()}</dt>
            <dd>{w.repository}</dd>
            <dt>{say.container()}</dt>
            <dd>{say.startedByOthersAnd(w.adopted)}</dd>
          </>
        ) : (
          <>
            <dt>{say.repository()}</dt>
            <dd>{say.branchMadeFrom(w.repository, w.branch, <code>{w.commit.slice(0, 10)}</code>)}</dd>
            <dt>{say.definition()}</dt>
            <dd>{w.definition || say.noneWhatIsUsual()}</dd>
          </>
        )}
        <dt>{say.folder()}</dt>
        <dd>{say.asTheImagesUser(w.folder, w.user)}</dd>
        {own && (
          <>
            <dt>{say.ssh()}</dt>
            <dd>
              <SSHLine of={w} />
            </dd>
          </>
        )}
        <dt>{say.image()}</dt>
        <dd>{w.image}</dd>
        {!w.adopted && <dt>{say.prepared()}</dt>}
        {!w.adopted && <dd>{w.prepared ? say.imageOfAtThe(w.prepared.number, when(w.prepared.made_at), w.prepared.behind) : say.fromScratch(w.scratch ? `: ${w.scratch}` : "")}</dd>}
        <dt>{w.adopted ? say.takenOn() : say.launched()}</dt>
        <dd title={exact(w.created_at)}>{when(w.created_at)}</dd>
        <dt>{say.size()}</dt>
        <dd className="number">{say.memoryOfItsDisk(w.size, cores(w.cores_milli), bytes(w.memory_bytes), w.disk_used_bytes, bytes(w.disk_used_bytes), w.adopted, bytes(w.disk_bytes))}</dd>
        <dt>{say.cost()}</dt>
        <dd className="number">{say.soFarOfIt(money(w.cost_micros, w.currency), money(w.idle_micros, w.currency), money(w.hour_micros, w.currency))}</dd>
        <dt>{say.last24Hours()}</dt>
        <dd>
          <DayStrip day={w.day} width={280} />
        </dd>
        <dt>{w.removes_at ? say.isRemoved() : say.rest()}</dt>
        <dd>{w.removes_at ? say.unlessWorkInIt(when(w.removes_at)) : <Rest of={w} />}</dd>
      </dl>
      {w.rest?.warn && <Alert type="warning" showIcon style={{ marginBottom: 12 }} title={say.itIsPutTo(when(w.rest.stops_at), w.rest.last_sign, when(w.rest.last_sign_at))} description={say.typeSomethingOrHold()} />}
      {w.phase === "stopped" && w.cause && <Alert type="info" showIcon style={{ marginBottom: 12 }} title={w.cause.charAt(0).toUpperCase() + w.cause.slice(1)} />}
      {w.phase === "failed" && <ProblemNote error={new Problem(0, say.itFailedIn(w.failed_in, w.cause), say.startTriesItAgain())} />}
      {w.conditions.map((c) => (
        <ConditionNote key={c.kind} of={c} workspace={w} own={own} />
      ))}
      {w.asks.map((a) => (
        <AskNote key={a.name} of={a} workspace={w} own={own} />
      ))}
      <Tabs
        destroyOnHidden
        activeKey={get("view") ?? "sheet"}
        onChange={(view) => set({ view })}
        items={[
          {
            key: "sheet",
            label: say.launchSheet(),
            children: sheet && (
              <>
                {which}
                <SheetView sheet={sheet} causeTold={w.phase === "failed" && sheet.cause === w.cause} />
              </>
            ),
          },
          {
            key: "log",
            label: say.log(),
            children: sheet && (
              <>
                {which}
                <LogView key={sheet.number} address={`/api/v1/workspaces/${encodeURIComponent(name)}/log?sheet=${sheet.number}&follow=true`} />
              </>
            ),
          },
          ...(w.services > 0 ? [{ key: "services", label: say.services(), children: <Services workspace={w} /> }] : []),
          { key: "ports", label: say.ports(), children: <Ports workspace={w} own={own} /> },
          ...(own ? [{ key: "secrets", label: say.secrets(), children: <Secrets of={nameOf(w)} /> }] : []),
          { key: "journal", label: say.journal(), children: <Entries of={{ workspace: nameOf(w) }} /> },
        ]}
      />
    </>
  );
}

/** A secret that a program waits for: whoever the workspace is gives it here. */
function AskNote({ of: a, workspace: w, own }: { of: Workspace["asks"][number]; workspace: Workspace; own: boolean }) {
  const [giving, setGiving] = useState(false);
  return (
    <>
      <Alert
        type="warning"
        showIcon
        style={{ marginBottom: 8 }}
        title={say.aProgramWaitsFor(<code>{a.name}</code>, when(a.since))}
        description={
          <>
            {a.says && <div>{say.theProgramSays(a.says)}</div>}
            <div className="quiet">{say.whyItIsAbsent(a.absent)}</div>
          </>
        }
        action={
          own && (
            <Button size="small" type="primary" onClick={() => setGiving(true)}>
              {say.giveIt()}
            </Button>
          )
        }
      />
      {giving && <GiveSecret name={a.name} repository={w.repository} onClose={() => setGiving(false)} />}
    </>
  );
}

/** What holds older values of secrets: what the definition started can be begun anew. */
function Older({ reason, workspace: w, own }: { reason: string; workspace: Workspace; own: boolean }) {
  const { message } = App.useApp();
  const renew = useMutation({
    mutationFn: () => renewIt(nameOf(w)),
    ...useDone("workspaces", "secrets"),
    onSuccess: (done) => void message.info(say.begunAnew(done.commands), 8),
  });
  return (
    <Alert
      type="warning"
      showIcon
      style={{ marginBottom: 8 }}
      title={say.secretsChanged(reason)}
      description={say.whatIsOpenedFrom()}
      action={
        own && (
          <Button size="small" loading={renew.isPending} onClick={() => renew.mutate()}>
            {say.beginAnew()}
          </Button>
        )
      }
    />
  );
}

/** What a condition means, and what to do about it. */
function ConditionNote({ of: c, workspace: w, own }: { of: Workspace["conditions"][number]; workspace: Workspace; own: boolean }) {
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
          own && (
            <Button size="small" loading={heed.isPending} onClick={() => heed.mutate()}>
              {say.iHaveReadIt()}
            </Button>
          )
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
        title={waits ? say.somethingInItWanted(when(c.since)) : c.reason}
        description={waits ? say.ifThatWasYou() : undefined}
        action={
          <Space>
            {waits && (
              <Button size="small" type="primary" loading={push.isPending} onClick={() => push.mutate(true)}>
                {say.allowFor15Min()}
              </Button>
            )}
            <Button size="small" loading={push.isPending} onClick={() => push.mutate(false)}>
              {waits ? say.refuse() : say.endIt()}
            </Button>
          </Space>
        }
      />
    );
  }
  if (c.kind === "secrets changed") return <Older reason={c.reason} workspace={w} own={own} />;
  const next: Record<string, string> = {
    "set-up failed": say.theWorkspaceIsThere(),
    "rebuild due": say.itGoesOnAs(),
    "disk full": say.whatIsWrittenFails(),
    "out of memory": say.endWhatIsNot(),
    "over limit": say.makeRoomInIts(),
    "unpushed work": say.startItAndPush(),
  };
  if (!next[c.kind]) return null;
  return <Alert type={c.kind === "set-up failed" ? "error" : "warning"} showIcon style={{ marginBottom: 8 }} title={`${c.kind}: ${c.reason}`} description={next[c.kind]} />;
}

/** What keeps a workspace awake, or when it is put to rest. */
function Rest({ of: w }: { of: Workspace }) {
  if (w.adopted) return say.itIsNeverPut();
  if (!w.rest) return say.atRest();
  if (w.rest.held_until) return say.heldUntil(when(w.rest.held_until), w.rest.hold_why);
  return <span title={exact(w.rest.last_sign_at)}>{say.atPutToRest(w.rest.last_sign, when(w.rest.last_sign_at), when(w.rest.stops_at))}</span>;
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
          { title: say.service(), dataIndex: "name" },
          {
            title: say.state(),
            render: (_, s) => (
              <span data-service={s.name} style={{ color: colour(s.state) }}>
                {colour(s.state) === token.colorError ? <CloseCircleFilled /> : colour(s.state) ? <CheckCircleFilled /> : <MinusCircleOutlined />} {s.state}
                {s.problem && `: ${s.problem}`}
              </span>
            ),
          },
          { title: say.image(), dataIndex: "image" },
          { title: say.ports(), className: "number", render: (_, s) => s.ports.join(", ") },
          { title: say.waitsFor(), render: (_, s) => s.needs.join(", ") },
        ]}
      />
      <p className="quiet">{say.openARowFor()}</p>
    </>
  );
}

/** What one's own workspace is given, and what in it holds an older one. */
function Secrets({ of }: { of: string }) {
  const rows = useQuery(explainedIn(of));
  return (
    <>
      <ProblemNote error={rows.error} />
      <SecretChoices rows={rows.data} loading={rows.isPending} />
    </>
  );
}
