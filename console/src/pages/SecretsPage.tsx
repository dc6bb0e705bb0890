import { useQuery } from "@tanstack/react-query";
import { Button, Select, Table, Tabs, type TableColumnsType } from "antd";
import { useState } from "react";
import { type SecretChoice, type Me, may } from "../api/client";
import { GiveSecret } from "../parts/GiveSecret";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { SecretTable } from "../parts/SecretTable";
import { repositories as all, secretsOf } from "../service/repositories";
import { explained as explainedOf, mine as mineOf } from "../service/secrets";
import * as say from "words/pages/SecretsPage";

/** One's own secrets, a repository's, and what becomes of each in a workspace. */
export function SecretsPage({ person }: { person: Me }) {
  const [get, set] = useAddress();
  const view = get("view") ?? "mine";
  const repositories = useQuery(all);
  const names = repositories.data?.map((r) => r.name) ?? [];
  const of = get("repository") ?? names[0] ?? "";
  const [adding, setAdding] = useState(false);
  const manages = may(person, "repo-secret.change");
  const mine = useQuery({ ...mineOf, enabled: view === "mine" });
  const theirs = useQuery({ ...secretsOf(of), enabled: view === "repository" && Boolean(of) });
  const explained = useQuery({ ...explainedOf(of), enabled: view === "explained" && Boolean(of) });
  const which = <Select showSearch aria-label={say.repository()} style={{ width: 200, marginBottom: 12 }} value={of} options={names.map((n) => ({ value: n, label: n }))} onChange={(r: string) => set({ repository: r })} />;
  return (
    <>
      <PageHead
        title={say.secrets()}
        action={
          (view === "mine" || (view === "repository" && manages)) && (
            <Button type="primary" onClick={() => setAdding(true)}>
              {view === "mine" ? say.setASecret() : say.setASecretOf(of)}
            </Button>
          )
        }
      >
        <span className="quiet">{say.givenToTerminalsRuns()}</span>
      </PageHead>
      <ProblemNote error={mine.error ?? theirs.error ?? explained.error} />
      <Tabs
        activeKey={view}
        onChange={(v) => set({ view: v })}
        items={[
          { key: "mine", label: say.mine(), children: <SecretTable rows={mine.data} loading={mine.isPending} removable empty={say.youHaveNoSecrets()} /> },
          {
            key: "repository",
            label: say.aRepositorys(),
            children: (
              <>
                {which}
                <SecretTable rows={theirs.data} loading={theirs.isPending} removable={manages} of={of} empty={say.thisRepositoryHasNo()} />
              </>
            ),
          },
          {
            key: "explained",
            label: say.whatMyWorkspacesGet(),
            children: (
              <>
                {which}
                <Table<SecretChoice> size="small" rowKey={(c) => c.level + c.name} pagination={false} loading={explained.isPending} dataSource={explained.data} columns={choices} locale={nothing(say.workspacesOfThisRepository())} />
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
  { title: say.name(), render: (_, c) => <code>{c.name}</code> },
  { title: say.given(), render: (_, c) => (c.given ? say.yesAsAFile(c.form === "file", c.name, `$${c.name}`) : "no") },
  { title: say.level(), dataIndex: "level" },
  { title: say.theDefinitionAsksFor(), render: (_, c) => (c.wanted ? "yes" : "no") },
  { title: say.why(), dataIndex: "why" },
];
