import { useQuery } from "@tanstack/react-query";
import { Button, Input, Select, Space, Table, Tooltip, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { nameOf, type Person, type WorkspaceRow } from "../api/client";
import { workspaces } from "../service/workspaces";
import { LooksOfOthers } from "./Looks";
import { AskMany } from "./AskMany";
import { cents, money } from "./amounts";
import { DayStrip } from "./DayStrip";
import { nothing, PageHead } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { sorted, sorting, useAddress } from "./search";
import { State } from "./State";
import { TakeOn } from "./TakeOn";
import { exact, when } from "./time";

const phases = ["ready", "waiting", "preparing", "starting", "stopping", "stopped", "failed"];

/** The list of workspaces: one's own, or everybody's whom one may see. */
export function Fleet({ person, all }: { person: Person; all: boolean }) {
  const [get, set] = useAddress();
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<string[]>([]);
  const words = get("find") ?? "";
  const state = get("state");
  const team = get("team");
  const list = useQuery(workspaces(all));
  const everything = list.data ?? [];
  const rows = everything.filter(
    (w) =>
      (!state || w.phase === state || w.conditions.some((c) => c.kind === state)) &&
      (!team || w.team === team) &&
      [w.name, w.owner, w.repository, w.branch].some((v) => v.includes(words.trim().toLowerCase())),
  );
  const by = sorting<WorkspaceRow>(get("sort") ?? (all ? "-phase_at" : "name"));
  const text = (key: "name" | "owner" | "repository" | "phase_at") => by(key, (a, b) => a[key].localeCompare(b[key]));
  const columns: TableColumnsType<WorkspaceRow> = [
    ...(all ? [{ title: "Owner", dataIndex: "owner", width: 95, ...text("owner"), render: (_: unknown, w: WorkspaceRow) => <Tooltip title={w.team}>{w.owner}</Tooltip> }] : []),
    { title: "Name", width: 130, ...text("name"), render: (_, w) => <Link to={`/workspaces/${nameOf(w)}`}>{w.name}</Link> },
    ...(all ? [] : [{ title: "", key: "enter", width: 75, render: (_: unknown, w: WorkspaceRow) => w.phase === "ready" && <Link to={`/bench/${nameOf(w)}`}>Enter</Link> }]),
    { title: "State", key: "state", width: 200, render: (_, w) => <State of={w} line /> },
    {
      title: "Since",
      width: 115,
      ...text("phase_at"),
      render: (_, w) => (
        <Tooltip title={exact(w.phase_at)}>
          <span className="number">{when(w.phase_at)}</span>
        </Tooltip>
      ),
    },
    { title: "Last 24 hours", key: "day", width: 165, render: (_, w) => <DayStrip day={w.day} width={150} /> },
    { title: "Repository", dataIndex: "repository", width: 125, ...text("repository") },
    { title: "Branch", dataIndex: "branch", key: "branch", width: 75, ellipsis: true },
    { title: "Size", dataIndex: "size", key: "size", width: 70 },
    { title: "An hour", align: "right", width: 100, ...by("hour", (a, b) => a.hour_micros - b.hour_micros), render: (_, w) => <span className="number">{money(w.hour_micros, w.currency)}</span> },
    { title: "So far", align: "right", width: 90, ...by("cost", (a, b) => a.cost_micros - b.cost_micros), render: (_, w) => <span className="number">{cents(w.cost_micros, w.currency)}</span> },
  ];
  const picked = rows.filter((w) => chosen.includes(w.id));
  const teams = [...new Set(everything.map((w) => w.team).filter(Boolean))].sort() as string[];
  const running = rows.filter((w) => w.phase === "ready").length;
  return (
    <>
      <PageHead
        title={all ? (person.role === "lead" ? `Workspaces of ${person.team ?? "my team"}` : "Fleet") : "My workspaces"}
        action={
          <Space>
            <AskMany chosen={picked} onDone={() => setChosen([])} />
            {all && person.role === "operator" && picked.length === 0 && <TakeOn />}
            {person.role !== "auditor" && (
              <Button type="primary" onClick={() => navigate("/launch")}>
                Launch a workspace
              </Button>
            )}
          </Space>
        }
      >
        <Input allowClear placeholder="Find by name, repository, branch" aria-label="Find" style={{ width: 240 }} value={words} onChange={(e) => set({ find: e.target.value })} />
        <Select
          allowClear
          placeholder="Any state"
          aria-label="State"
          style={{ width: 150 }}
          value={state}
          options={[...phases, "idle", "held", "set-up failed", "secrets changed", "unpushed work", "over limit", "out of memory", "disk full", "rebuild due", "adopted", "steward away", "notice", "push waits", "push allowed"].map((p) => ({ value: p, label: p }))}
          onChange={(p?: string) => set({ state: p })}
        />
        {teams.length > 1 && (
          <Select allowClear placeholder="Any team" aria-label="Team" style={{ width: 130 }} value={team} options={teams.map((t) => ({ value: t, label: t }))} onChange={(t?: string) => set({ team: t })} />
        )}
        {list.data && (
          <span className="quiet number nowrap">
            {rows.length} shown, {running} ready
          </span>
        )}
        <Link to="/operations">Operations</Link>
      </PageHead>
      {!all && <LooksOfOthers />}
      <ProblemNote error={list.error} />
      <Table<WorkspaceRow>
        rowKey="id"
        size="small"
        virtual
        scroll={{ x: 1150, y: 640 }}
        loading={list.isPending}
        columns={columns}
        dataSource={rows}
        pagination={false}
        rowSelection={person.role !== "auditor" ? { selectedRowKeys: chosen, onChange: (keys) => setChosen(keys.map(String)), columnWidth: 36 } : undefined}
        onChange={(_, __, s) => set({ sort: sorted(s) })}
        locale={nothing(everything.length ? "No workspace fits what you look for." : "There is no workspace yet. Launch one from a repository: it comes up with everything its definition asks for.")}
      />
    </>
  );
}
