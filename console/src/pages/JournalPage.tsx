import { Checkbox, DatePicker, Input, Select } from "antd";
import dayjs from "dayjs";
import { Link } from "react-router";
import { Entries } from "../parts/Entries";
import { PageHead } from "../parts/Page";
import { useAddress } from "../parts/search";

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
  const query = { person: get("person"), kind: get("kind"), workspace: get("workspace"), from: get("from"), to: get("to") };
  return (
    <>
      <PageHead title="Journal" action={<Link to="/recordings">Recordings of terminals</Link>}>
        <Select allowClear showSearch placeholder="Anything" aria-label="Kind" style={{ width: 230 }} value={get("kind")} options={kinds.map(([value, label]) => ({ value, label }))} onChange={(k?: string) => set({ kind: k })} />
        <Input.Search allowClear placeholder="Of or by a person" aria-label="Person" style={{ width: 210 }} key={get("person") ?? ""} defaultValue={get("person")} onSearch={(p) => set({ person: p.trim() })} />
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
        <Checkbox checked={get("time") === "exact"} onChange={(e) => set({ time: e.target.checked ? "exact" : undefined })}>
          Exact times
        </Checkbox>
      </PageHead>
      <Entries of={query} exact={get("time") === "exact"} tall />
    </>
  );
}

function day(text?: string) {
  return text ? dayjs(text) : null;
}
