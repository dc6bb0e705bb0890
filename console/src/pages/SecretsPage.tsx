import { useQuery } from "@tanstack/react-query";
import { Button, Input, Select, Space, Tabs } from "antd";
import { useState } from "react";
import { type Me, may, ledBy, teamsOf } from "../api/client";
import { GiveSecret } from "../parts/GiveSecret";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { SecretChoices } from "../parts/SecretChoices";
import { SecretTable } from "../parts/SecretTable";
import { teams as allTeams } from "../service/people";
import { repositories as all } from "../service/repositories";
import { explained, own, secrets, type Whose } from "../service/secrets";
import * as say from "words/pages/SecretsPage";

/** Secrets of every level, and what becomes of each in a workspace. */
export function SecretsPage({ person }: { person: Me }) {
  const [get, set] = useAddress();
  const works = may(person, "secret.see");
  const view = get("view") ?? (works ? "mine" : "repository");
  const repositories = useQuery(all);
  const names = repositories.data?.map((r) => r.name) ?? [];
  const everyTeam = may(person, "team-secret.see", "other");
  const teams = useQuery({ ...allTeams, enabled: everyTeam });
  const teamNames = everyTeam ? (teams.data?.map((t) => t.name) ?? []) : may(person, "team-secret.see") ? teamsOf(person) : [];
  const repository = get("repository") ?? names[0] ?? "";
  const team = get("team") ?? (person.team || teamNames[0]) ?? "";
  const [giving, setGiving] = useState<Whose>();
  const changes = (of: Whose) =>
    may(person, of.level === "person" ? "secret.change" : of.level === "repository" ? "repo-secret.change" : of.level === "house" ? "house-secret.change" : "team-secret.change", ...(of.level === "team" ? [ledBy(person).includes(of.name ?? "") ? ("team" as const) : ("other" as const)] : []));
  const pick = (label: string, value: string, options: string[], key: string) => <Select showSearch aria-label={label} style={{ width: 200, marginBottom: 12 }} value={value} options={options.map((n) => ({ value: n, label: n }))} onChange={(v: string) => set({ [key]: v })} />;
  const level = (of: Whose, empty: string, which?: React.ReactNode) => (
    <>
      {which}
      <Level of={of} changes={changes(of)} empty={empty} />
    </>
  );
  const of: Whose | undefined = view === "mine" ? own : view === "repository" && repository ? { level: "repository", name: repository } : view === "team" && team ? { level: "team", name: team } : view === "house" ? { level: "house" } : undefined;
  return (
    <>
      <PageHead
        title={say.secrets()}
        action={
          of &&
          changes(of) && (
            <Button type="primary" onClick={() => setGiving(of)}>
              {say.setASecretOf(of)}
            </Button>
          )
        }
      >
        <span className="quiet">{say.givenToTerminalsRuns()}</span>
      </PageHead>
      <ProblemNote error={repositories.error ?? teams.error} />
      <Tabs
        activeKey={view}
        onChange={(v) => set({ view: v })}
        items={[
          ...(works ? [{ key: "mine", label: say.mine(), children: level(own, say.youHaveNoSecrets()) }] : []),
          ...(may(person, "repo-secret.see") ? [{ key: "repository", label: say.aRepositorys(), children: repository && level({ level: "repository", name: repository }, say.thisRepositoryHasNo(), pick(say.repository(), repository, names, "repository")) }] : []),
          ...(teamNames.length > 0 ? [{ key: "team", label: everyTeam || teamNames.length > 1 ? say.aTeams() : say.myTeams(), children: level({ level: "team", name: team }, say.thisTeamHasNo(), (everyTeam || teamNames.length > 1) && pick(say.team(), team, teamNames, "team")) }] : []),
          ...(may(person, "house-secret.see") ? [{ key: "house", label: say.theHouses(), children: level({ level: "house" }, say.theHouseHasNo()) }] : []),
          ...(works ? [{ key: "explained", label: say.whatMyWorkspacesGet(), children: repository && <Explained repository={repository} name={get("name") ?? ""} look={(name) => set({ name: name || undefined })} which={pick(say.repository(), repository, names, "repository")} /> }] : []),
        ]}
      />
      {giving && <GiveSecret of={giving} repositories={names} onClose={() => setGiving(undefined)} />}
    </>
  );
}

function Level({ of, changes, empty }: { of: Whose; changes: boolean; empty: string }) {
  const rows = useQuery(secrets(of));
  return (
    <>
      <ProblemNote error={rows.error} />
      <SecretTable rows={rows.data} loading={rows.isPending} removable={changes} of={of} empty={empty} />
    </>
  );
}

function Explained({ repository, name, look, which }: { repository: string; name: string; look: (name: string) => void; which: React.ReactNode }) {
  const rows = useQuery(explained(repository, name || undefined));
  return (
    <>
      <Space wrap align="start">
        {which}
        <Input.Search key={name} allowClear defaultValue={name} aria-label={say.aName()} placeholder={say.aName()} style={{ width: 320 }} onSearch={look} />
      </Space>
      <ProblemNote error={rows.error} />
      <SecretChoices rows={rows.data} loading={rows.isPending} />
    </>
  );
}
