import { useQuery } from "@tanstack/react-query";
import { Button, Select, Table, Tabs, type TableColumnsType } from "antd";
import { useState } from "react";
import type { Person, SecretChoice } from "../api/client";
import { GiveSecret } from "../parts/GiveSecret";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { SecretTable } from "../parts/SecretTable";
import { repositories as all, secretsOf } from "../service/repositories";
import { explained as explainedOf, mine as mineOf } from "../service/secrets";

/** One's own secrets, a repository's, and what becomes of each in a workspace. */
export function SecretsPage({ person }: { person: Person }) {
  const [get, set] = useAddress();
  const view = get("view") ?? "mine";
  const repositories = useQuery(all);
  const names = repositories.data?.map((r) => r.name) ?? [];
  const of = get("repository") ?? names[0] ?? "";
  const [adding, setAdding] = useState(false);
  const manages = person.role === "operator" || person.role === "lead";
  const mine = useQuery({ ...mineOf, enabled: view === "mine" });
  const theirs = useQuery({ ...secretsOf(of), enabled: view === "repository" && Boolean(of) });
  const explained = useQuery({ ...explainedOf(of), enabled: view === "explained" && Boolean(of) });
  const which = <Select showSearch aria-label="Repository" style={{ width: 200, marginBottom: 12 }} value={of} options={names.map((n) => ({ value: n, label: n }))} onChange={(r: string) => set({ repository: r })} />;
  return (
    <>
      <PageHead
        title="Secrets"
        action={
          (view === "mine" || (view === "repository" && manages)) && (
            <Button type="primary" onClick={() => setAdding(true)}>
              {view === "mine" ? "Set a secret" : `Set a secret of ${of}`}
            </Button>
          )
        }
      >
        <span className="quiet">Given to terminals, runs and set-up commands, and never shown again. Your own count before a repository's.</span>
      </PageHead>
      <ProblemNote error={mine.error ?? theirs.error ?? explained.error} />
      <Tabs
        activeKey={view}
        onChange={(v) => set({ view: v })}
        items={[
          { key: "mine", label: "Mine", children: <SecretTable rows={mine.data} loading={mine.isPending} removable empty="You have no secrets. Set one, and your terminals, runs and set-up commands have it." /> },
          {
            key: "repository",
            label: "A repository's",
            children: (
              <>
                {which}
                <SecretTable rows={theirs.data} loading={theirs.isPending} removable={manages} of={of} empty="This repository has no secrets of its own. A lead or operator sets those that everybody who works in it is to have." />
              </>
            ),
          },
          {
            key: "explained",
            label: "What my workspaces get",
            children: (
              <>
                {which}
                <Table<SecretChoice> size="small" rowKey={(c) => c.level + c.name} pagination={false} loading={explained.isPending} dataSource={explained.data} columns={choices} locale={nothing("Workspaces of this repository get no secrets, and its definition asks for none.")} />
              </>
            ),
          },
        ]}
      />
      <GiveSecret open={adding} of={view === "repository" ? of : undefined} repositories={names} onClose={() => setAdding(false)} />
    </>
  );
}

const choices: TableColumnsType<SecretChoice> = [
  { title: "Name", render: (_, c) => <code>{c.name}</code> },
  { title: "Given", render: (_, c) => (c.given ? `yes, as ${c.form === "file" ? `a file ($${c.name}_FILE)` : `$${c.name}`}` : "no") },
  { title: "Level", dataIndex: "level" },
  { title: "The definition asks for it", render: (_, c) => (c.wanted ? "yes" : "no") },
  { title: "Why", dataIndex: "why" },
];
