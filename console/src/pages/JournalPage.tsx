import { useQuery } from "@tanstack/react-query";
import { DatePicker, Input, Select, Table, Tooltip, type TableColumnsType } from "antd";
import dayjs from "dayjs";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type JournalEntry } from "../api/client";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { exact, when } from "../parts/time";

const kinds = [
  ["workspace.launched", "launches"],
  ["workspace.phase", "phases"],
  ["workspace.rested", "put to rest"],
  ["workspace.condition", "conditions"],
  ["workspace.asked", "what people asked of workspaces"],
  ["workspace.adopted", "containers taken on"],
  ["workspace.", "everything of workspaces"],
  ["secret.", "secrets"],
  ["prebuild.", "prebuilds"],
  ["rules.", "house rules"],
  ["person.", "people"],
  ["token.", "tokens"],
  ["key.", "keys"],
  ["repository.", "repositories"],
  ["yard.", "the yard"],
] as const;

/** Who did what, and what happened: the newest first. */
export function JournalPage() {
  const [get, set] = useAddress();
  const [person, setPerson] = useState(get("person") ?? "");
  const query = { newest: true, limit: 500, person: get("person"), kind: get("kind"), workspace: get("workspace"), from: get("from"), to: get("to") };
  const list = useQuery({ queryKey: ["journal", query], queryFn: ({ signal }) => take(api.GET("/api/v1/journal", { signal, params: { query } })), placeholderData: (old) => old });
  const columns: TableColumnsType<JournalEntry> = [
    { title: "No.", dataIndex: "number", align: "right", width: 80, className: "number" },
    { title: "Time", width: 130, render: (_, e) => <Tooltip title={exact(e.at)}>{when(e.at)}</Tooltip> },
    { title: "What", width: 200, dataIndex: "kind" },
    { title: "Of", width: 200, render: (_, e) => [e.subject_name, e.owner_name && (e.subject_name ? `of ${e.owner_name}` : e.owner_name)].filter(Boolean).join(" ") },
    { title: "By", width: 110, render: (_, e) => e.actor_name },
    { title: "Details", render: (_, e) => <span className="details">{details(e.data)}</span> },
  ];
  return (
    <>
      <PageHead title="Journal" action={<Link to="/recordings">Recordings of terminals</Link>}>
        <Select allowClear showSearch placeholder="Anything" aria-label="Kind" style={{ width: 230 }} value={get("kind")} options={kinds.map(([value, label]) => ({ value, label }))} onChange={(k?: string) => set({ kind: k })} />
        <Input.Search allowClear placeholder="Of or by a person" aria-label="Person" style={{ width: 210 }} value={person} onChange={(e) => setPerson(e.target.value)} onSearch={(p) => set({ person: p.trim() })} />
        <DatePicker.RangePicker
          allowEmpty
          placeholder={["From", "To"]}
          aria-label="Days"
          style={{ width: 240 }}
          value={[day(get("from")), day(get("to"))?.subtract(1, "day") ?? null]}
          onChange={(days) => set({ from: days?.[0]?.format("YYYY-MM-DD"), to: days?.[1]?.add(1, "day").format("YYYY-MM-DD") })}
        />
        {get("workspace") && (
          <Input.Search allowClear readOnly aria-label="Workspace" style={{ width: 220 }} value={get("workspace")} onSearch={() => set({ workspace: undefined })} onClear={() => set({ workspace: undefined })} />
        )}
        <span className="quiet">the newest {list.data?.items.length ?? ""}</span>
      </PageHead>
      <ProblemNote error={list.error} />
      <Table<JournalEntry> size="small" rowKey="number" virtual scroll={{ x: 1100, y: 660 }} pagination={false} loading={list.isPending} dataSource={list.data?.items} columns={columns} locale={nothing("Nothing is written that fits what you look for.")} />
    </>
  );
}

function day(text?: string) {
  return text ? dayjs(text) : null;
}

function details(data: Record<string, unknown>): string {
  return Object.entries(data)
    .filter(([, v]) => v !== "" && v !== null && v !== false)
    .map(([k, v]) => `${k.replaceAll("_", " ")} ${typeof v === "string" ? v.replace(/^([0-9a-f]{10})[0-9a-f]{30}$/, "$1") : JSON.stringify(v)}`)
    .join(", ");
}
