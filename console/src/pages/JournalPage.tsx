import { Checkbox, DatePicker, Input, Select } from "antd";
import dayjs from "dayjs";
import { Link } from "react-router";
import { Entries } from "../parts/Entries";
import { PageHead } from "../parts/Page";
import { useAddress } from "../parts/search";
import * as say from "words/pages/JournalPage";

const kinds = [
  ["workspace.launched", "launches"],
  ["workspace.phase", "phases"],
  ["workspace.rested", say.putToRest()],
  ["workspace.condition", "conditions"],
  ["workspace.asked", say.whatPeopleAskedOf()],
  ["workspace.adopted", say.containersTakenOn()],
  ["workspace.", say.everythingOfWorkspaces()],
  ["secret.", "secrets"],
  ["prebuild.", "prebuilds"],
  ["rules.", say.houseRules()],
  ["person.", "people"],
  ["token.", "tokens"],
  ["key.", "keys"],
  ["repository.", "repositories"],
  ["yard.", say.theYard()],
] as const;

/** Who did what, and what happened: the newest first. */
export function JournalPage() {
  const [get, set] = useAddress();
  const query = { person: get("person"), kind: get("kind"), workspace: get("workspace"), from: get("from"), to: get("to") };
  return (
    <>
      <PageHead title={say.journal()} action={<Link to="/recordings">{say.recordingsOfTerminals()}</Link>}>
        <Select allowClear showSearch placeholder={say.anything()} aria-label={say.kind()} style={{ width: 230 }} value={get("kind")} options={kinds.map(([value, label]) => ({ value, label }))} onChange={(k?: string) => set({ kind: k })} />
        <Input.Search allowClear placeholder={say.ofOrByA()} aria-label={say.person()} style={{ width: 210 }} key={get("person") ?? ""} defaultValue={get("person")} onSearch={(p) => set({ person: p.trim() })} />
        <DatePicker.RangePicker allowEmpty placeholder={[say.from(), say.to()]} aria-label={say.days()} style={{ width: 240 }} value={[day(get("from")), day(get("to"))?.subtract(1, "day") ?? null]} onChange={(days) => set({ from: days?.[0]?.format("YYYY-MM-DD"), to: days?.[1]?.add(1, "day").format("YYYY-MM-DD") })} />
        {get("workspace") && <Input.Search allowClear readOnly aria-label={say.workspace()} style={{ width: 220 }} value={get("workspace")} onSearch={() => set({ workspace: undefined })} onClear={() => set({ workspace: undefined })} />}
        <Checkbox checked={get("time") === "exact"} onChange={(e) => set({ time: e.target.checked ? "exact" : undefined })}>
          {say.exactTimes()}
        </Checkbox>
      </PageHead>
      <Entries of={query} exact={get("time") === "exact"} tall />
    </>
  );
}

function day(text?: string) {
  return text ? dayjs(text) : null;
}
