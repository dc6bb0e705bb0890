import { useMemo, type ReactNode } from "react";
import { Link } from "react-router";
import { nameOf, type WorkspaceRow, type Me, may } from "../api/client";
import { AskMany } from "./AskMany";
import { cents, money } from "words/amounts";
import { DayStrip } from "./DayStrip";
import { byText, type Filter } from "./fitting";
import { List, type Column } from "./List";
import { State } from "./State";
import { exact, when } from "words/times";
import * as say from "words/parts/WorkspaceList";

const name: Column<WorkspaceRow> = { key: "name", title: say.name(), width: 132, compare: (a, b) => byText(a.name, b.name), render: (w) => <Link to={`/workspaces/${nameOf(w)}`}>{w.name}</Link> };
const enter: Column<WorkspaceRow> = { key: "enter", title: "", width: 70, render: (w) => w.phase === "ready" && <Link to={`/bench/${nameOf(w)}`}>{say.enter()}</Link> };
const owner: Column<WorkspaceRow> = { key: "owner", title: say.owner(), width: 86, compare: (a, b) => byText(a.owner, b.owner), render: (w) => <span title={w.team}>{w.owner}</span> };
const team: Column<WorkspaceRow> = { key: "team", title: say.team(), width: 110, extra: true, compare: (a, b) => byText(a.team ?? "", b.team ?? ""), render: (w) => w.team };
const phase: Column<WorkspaceRow> = { key: "state", title: say.state(), width: 200, compare: (a, b) => byText(a.phase, b.phase), render: (w) => <State of={w} line /> };
const rest: Column<WorkspaceRow>[] = [
  {
    key: "phase_at",
    title: say.since(),
    width: 118,
    compare: (a, b) => byText(a.phase_at, b.phase_at),
    render: (w) => (
      <span className="number" title={exact(w.phase_at)}>
        {when(w.phase_at)}
      </span>
    ),
  },
  { key: "day", title: say.last24Hours(), width: 142, render: (w) => <DayStrip day={w.day} width={126} /> },
  { key: "repository", title: say.repository(), width: 118, compare: (a, b) => byText(a.repository, b.repository), render: (w) => w.repository },
  { key: "branch", title: say.branch(), width: 92, compare: (a, b) => byText(a.branch, b.branch), render: (w) => w.branch },
  { key: "size", title: say.size(), width: 72, compare: (a, b) => a.hour_micros - b.hour_micros, render: (w) => w.size },
  { key: "hour", title: say.anHour(), width: 98, align: "right", compare: (a, b) => a.hour_micros - b.hour_micros, render: (w) => money(w.hour_micros, w.currency) },
  { key: "cost", title: say.soFar(), width: 88, align: "right", compare: (a, b) => a.cost_micros - b.cost_micros, render: (w) => cents(w.cost_micros, w.currency) },
];

const state: Filter<WorkspaceRow> = { key: "state", any: say.anyState(), of: (w) => [w.phase, ...w.conditions.map((c) => c.kind)] };
const repository: Filter<WorkspaceRow> = { key: "repository", any: say.anyRepository(), of: (w) => [w.repository] };
const filters: Filter<WorkspaceRow>[] = [{ key: "team", any: say.anyTeam(), of: (w) => [w.team ?? ""] }, { key: "owner", any: say.anyOwner(), of: (w) => [w.owner] }, repository, { key: "size", any: say.anySize(), of: (w) => [w.size] }];

const texts = (w: WorkspaceRow) => [w.name, w.owner, w.repository, w.branch];
const mineOnly = [state, repository];
const ofAll = [state, ...filters];

/** Rows of workspaces: one's own, or those of many. */
export function WorkspaceList({ rows, person, all, loading, look, head }: { rows: readonly WorkspaceRow[]; person: Me; all: boolean; loading: boolean; look?: (w: WorkspaceRow) => ReactNode; head?: (shown: WorkspaceRow[]) => ReactNode }) {
  const columns = useMemo(() => (all ? [owner, name, ...(look ? [{ key: "look", title: "", width: 44, render: look }] : []), phase, team, ...rest] : [name, enter, phase, ...rest]), [all, look]);
  return (
    <List<WorkspaceRow>
      rows={rows}
      columns={columns}
      filters={all ? ofAll : mineOnly}
      texts={texts}
      usual={all ? "-phase_at" : "name"}
      find={say.findByNameRepository()}
      loading={loading}
      empty={say.thereIsNoWorkspace()}
      chosen={!may(person, "operation.ask") ? undefined : (chosen, forget) => <AskMany chosen={chosen} onDone={forget} />}
      head={head}
    />
  );
}
