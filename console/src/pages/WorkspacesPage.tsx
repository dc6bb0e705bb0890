import { useQuery } from "@tanstack/react-query";
import { Button, Empty, Input, Segmented, Select, Table, Tooltip, type TableColumnsType } from "antd";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, nameOf, take, type Person, type Workspace } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { State } from "../parts/State";
import { exact, when } from "../parts/time";

const phases = ["ready", "waiting", "preparing", "starting", "stopping", "stopped", "failed"];

/** The list: one's own workspaces first; an operator's also everybody's. */
export function WorkspacesPage({ person }: { person: Person }) {
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const operator = person.role === "operator";
  const all = operator && search.get("whose") !== "mine";
  const words = search.get("find") ?? "";
  const phase = search.get("phase") ?? undefined;
  const sort = search.get("sort") ?? "name";
  const set = (changes: Record<string, string | undefined>) =>
    setSearch(
      (old) => {
        for (const [k, v] of Object.entries(changes)) {
          if (v) old.set(k, v);
          else old.delete(k);
        }
        return old;
      },
      { replace: true },
    );
  const list = useQuery({
    queryKey: ["workspaces", "list", all],
    queryFn: () => take(api.GET("/api/v1/workspaces", { params: { query: { all } } })),
  });
  const rows = (list.data ?? []).filter(
    (w) => (!phase || w.phase === phase) && [w.name, w.owner, w.repository, w.branch].some((v) => v.includes(words.trim().toLowerCase())),
  );
  const by = (key: "name" | "owner" | "repository" | "phase_at") => ({
    key,
    sorter: (a: Workspace, b: Workspace) => a[key].localeCompare(b[key]),
    sortOrder: sort === key ? ("ascend" as const) : sort === `-${key}` ? ("descend" as const) : null,
  });
  const columns: TableColumnsType<Workspace> = [
    { title: "Name", ...by("name"), render: (_, w) => <Link to={`/workspaces/${nameOf(w)}`}>{w.name}</Link> },
    ...(all ? [{ title: "Owner", dataIndex: "owner", ...by("owner") }] : []),
    { title: "State", key: "state", render: (_, w) => <State of={w} /> },
    {
      title: "Since",
      ...by("phase_at"),
      render: (_, w) => (
        <Tooltip title={exact(w.phase_at)}>
          <span className="number">{when(w.phase_at)}</span>
        </Tooltip>
      ),
    },
    { title: "Repository", dataIndex: "repository", ...by("repository") },
    { title: "Branch", dataIndex: "branch", key: "branch" },
  ];
  return (
    <>
      <div className="page-head">
        <h1>Workspaces</h1>
        {operator && <Segmented value={all ? "all" : "mine"} options={[{ label: "Everybody's", value: "all" }, { label: "Mine", value: "mine" }]} onChange={(v) => set({ whose: v === "mine" ? "mine" : undefined })} />}
        <Input allowClear placeholder="Find by name, repository, branch" aria-label="Find" style={{ width: 260 }} value={words} onChange={(e) => set({ find: e.target.value })} />
        <Select allowClear placeholder="Any state" aria-label="State" style={{ width: 130 }} value={phase} options={phases.map((p) => ({ value: p, label: p }))} onChange={(p?: string) => set({ phase: p })} />
        <span className="spacer" />
        <Button type="primary" onClick={() => navigate("/launch")}>
          Launch a workspace
        </Button>
      </div>
      <ProblemNote error={list.error} />
      <Table<Workspace>
        rowKey="id"
        size="small"
        virtual
        scroll={{ x: 800, y: 620 }}
        loading={list.isPending}
        columns={columns}
        dataSource={rows}
        pagination={false}
        onChange={(_, __, s) => {
          const one = Array.isArray(s) ? s[0] : s;
          set({ sort: one?.order ? (one.order === "descend" ? "-" : "") + String(one.columnKey) : undefined });
        }}
        locale={{
          emptyText: (
            <Empty
              image={Empty.PRESENTED_IMAGE_SIMPLE}
              description={list.data?.length ? "No workspace fits what you look for." : "There is no workspace yet. Launch one from a repository: it comes up with everything its definition asks for."}
            />
          ),
        }}
      />
    </>
  );
}
