import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Space } from "antd";
import { lazy, Suspense } from "react";
import { Link, useNavigate } from "react-router";
import { nameOf, type WorkspaceRow, type Me } from "../api/client";
import { cents, money } from "words/amounts";
import { DayStrip } from "../parts/DayStrip";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { State } from "../parts/State";
import { useNow } from "../parts/clock";
import { exact, took, when } from "words/times";
import { useDone } from "../parts/useDone";
import { useFollow } from "../parts/useFollow";
import { onlyHere } from "../service/changes";
import { lastLaunches, launch, launched, preflight, type Launch } from "../service/launches";
import { hold, ports, sheet, start, stop, workspace, workspaces } from "../service/workspaces";
import * as say from "words/mine/MinePage";

// Whoever has few, and whom nobody lets look, needs none of them.
const LooksOfOthers = lazy(() => import("../parts/Looks").then((m) => ({ default: m.LooksOfOthers })));
const WorkspaceList = lazy(() => import("../parts/WorkspaceList").then((m) => ({ default: m.WorkspaceList })));

/** From so many on they are rows, as the fleet's are. */
const cardsMost = 7;

/** One's own workspaces: a card for each, one press from a prompt; rows where there are many. */
export function MinePage({ person }: { person: Me }) {
  const list = useQuery(workspaces(false));
  const navigate = useNavigate();
  if (list.error && !list.data) return <ProblemNote error={list.error} />;
  const rows = !list.data || list.data.length === 0 || list.data.length > cardsMost;
  const order = [...(list.data ?? [])].sort((a, b) => Number(b.phase === "ready") - Number(a.phase === "ready") || (a.name < b.name ? -1 : 1));
  return (
    <>
      <PageHead
        title={say.myWorkspaces()}
        action={
          <Button type={list.data?.length ? "default" : "primary"} onClick={() => void navigate("/launch")}>
            {say.launchAWorkspace()}
          </Button>
        }
      />
      <Suspense>
        <LooksOfOthers />
      </Suspense>
      <ProblemNote error={list.error} />
      {rows ? (
        <WorkspaceList rows={order} person={person} all={false} loading={list.isPending} />
      ) : (
        <div className="cards">
          {order.map((w) => (
            <WorkspaceCard key={w.id} of={w} />
          ))}
        </div>
      )}
      <Again />
    </>
  );
}

/** What somebody launched last, to be launched again by one press. */
function Again() {
  const all = useQuery(lastLaunches).data ?? [];
  if (all.length === 0) return null;
  return (
    <section aria-label={say.launchAgain()}>
      <h2 className="below">{say.launchAgain()}</h2>
      <div className="cards">
        {all.map((l) => (
          <AgainCard key={JSON.stringify(l)} of={l} />
        ))}
      </div>
    </section>
  );
}

function AgainCard({ of: l }: { of: Launch }) {
  const queries = useQueryClient();
  const ahead = useQuery(preflight(l));
  const follow = useFollow();
  const navigate = useNavigate();
  const go = useMutation({
    mutationFn: () => launch(l),
    ...useDone("workspaces"),
    onSuccess: (w) => {
      launched(queries, l);
      void navigate(`/bench/${nameOf(w)}`);
    },
  });
  const p = ahead.data;
  const address = new URLSearchParams({ repository: l.repository, ...(l.branch ? { branch: l.branch } : {}), ...(l.definition ? { definition: l.definition } : {}), ...(l.size ? { size: l.size } : {}) });
  return (
    <Card size="small" data-again={l.repository} title={`${l.repository}${l.branch ? `, ${l.branch}` : ""}`} extra={<span className="quiet small">{[l.definition, l.size].filter(Boolean).join(", ")}</span>}>
      <ProblemNote error={ahead.error} />
      {p && <div className="number">{say.anHourUsually(money(p.hour_micros, p.currency), p.usual_ms, took(p.usual_ms), p.refused && <span className="quiet">{say.itWouldBeRefused()}</span>)}</div>}
      <div className="card-foot" style={{ marginTop: 8 }}>
        <Button size="small" loading={go.isPending} disabled={!p || p.refused} onClick={() => go.mutate()}>
          {say.launch()}
        </Button>
        <Button size="small" type="text" {...follow(`/launch?${address}`)}>
          {say.lookAtItFirst()}
        </Button>
      </div>
    </Card>
  );
}

function WorkspaceCard({ of: row }: { of: WorkspaceRow }) {
  const name = nameOf(row);
  const ready = row.phase === "ready";
  const coming = ["waiting", "preparing", "starting"].includes(row.phase);
  const one = useQuery({ ...workspace(name), enabled: ready });
  const listening = useQuery({ ...ports(name), enabled: ready }).data?.filter((p) => p.listening) ?? [];
  const work = useQuery({ ...onlyHere(name), enabled: ready, retry: false }).data;
  const follow = useFollow();
  const done = useDone("workspaces");
  const ask = useMutation({ mutationFn: (what: "start" | "stop" | "hold") => (what === "start" ? start(name) : what === "stop" ? stop(name) : hold(name, 3600, say.anHourMoreFrom())), ...done });
  const rest = one.data?.rest;
  const only = [work && work.uncommitted.length > 0 && say.changed(work.uncommitted.length), work && work.unpushed.length > 0 && say.notPushed(work.unpushed.length)].filter(Boolean).join(", ");
  return (
    <Card
      size="small"
      data-card={row.name}
      title={<Link to={`/workspaces/${name}`}>{row.name}</Link>}
      extra={
        <span className="quiet small">
          {row.repository}, {row.branch}
        </span>
      }
    >
      <State of={row} line />
      <div className="card-lines">
        {coming && <Coming name={name} />}
        {listening.map((p) => (
          <div key={p.number}>
            <a href={p.address} target="_blank" rel="noreferrer">
              :{p.number}
            </a>{" "}
            {p.label || p.process}
          </div>
        ))}
        {only && (
          <div>
            <Link to={`/bench/${name}?list=changes`}>{only}</Link>
          </div>
        )}
        {row.phase === "failed" && row.cause && <div className="cause">{row.cause}</div>}
        <Space size={8}>
          <DayStrip day={row.day} width={150} />
          {rest && <span className="quiet small">{rest.held_until ? say.heldUntil(when(rest.held_until)) : say.rests(when(rest.stops_at))}</span>}
          {rest && !rest.held_until && (
            <Button size="small" type="text" loading={ask.isPending && ask.variables === "hold"} onClick={() => ask.mutate("hold")} aria-label={say.n1HKeepFrom(row.name)}>
              {say.n1H()}
            </Button>
          )}
        </Space>
      </div>
      <div className="card-foot">
        {ready && (
          <Button type="primary" size="small" {...follow(`/bench/${name}`)}>
            {say.enter()}
          </Button>
        )}
        {coming && (
          <Button size="small" {...follow(`/bench/${name}`)}>
            {say.look()}
          </Button>
        )}
        {["stopped", "failed"].includes(row.phase) && (
          <Button size="small" loading={ask.isPending} onClick={() => ask.mutate("start")}>
            {say.start()}
          </Button>
        )}
        {ready && (
          <Button size="small" loading={ask.isPending && ask.variables === "stop"} onClick={() => ask.mutate("stop")}>
            {say.stop()}
          </Button>
        )}
        <span className="spacer" />
        <span className="number small" title={exact(row.phase_at)}>
          {say.soFar(cents(row.cost_micros, row.currency))}
        </span>
      </div>
    </Card>
  );
}

/** The step that a workspace is at while it comes up, against its usual time. */
function Coming({ name }: { name: string }) {
  const newest = useQuery({ ...sheet(name), refetchInterval: 1_000 }).data;
  const now = useNow(true);
  const step = newest?.steps.findLast((s) => !s.ended_at && !s.parent);
  if (!newest || !step) return null;
  return (
    <div>
      {step.title} <span className="number">{took(now - Date.parse(step.started_at))}</span>
      {!!step.usual_ms && <span className="quiet">{say.usually(took(step.usual_ms))}</span>}
    </div>
  );
}
