import { CheckCircleFilled, PauseCircleFilled, RobotOutlined } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Select, Space, Table, Tooltip, Typography, theme } from "antd";
import { useState } from "react";
import type { Person } from "../api/client";
import { nothing, PageHead } from "../parts/Page";
import { Ask } from "../parts/Ask";
import { ProblemNote } from "../parts/ProblemNote";
import { AddProgram, ProgramTokens } from "../parts/Programs";
import { sorted, sorting, useAddress } from "../parts/search";
import { when } from "../parts/time";
import { useDone } from "../parts/useDone";
import { useColours } from "../palette";
import { addTeam as addTeamOf, changePerson, endLink, erasePerson, makeLink, openLinks, people as everybody, teams as teamsOf } from "../service/people";

const roles = ["operator", "lead", "developer", "auditor"] as const;

/** Who is here, in which team and role; operators bring people in and out. */
export function PeoplePage({ person }: { person: Person }) {
  const { token } = theme.useToken();
  const colours = useColours();
  const { modal } = App.useApp();
  const [get, set] = useAddress();
  const [enrolling, setEnrolling] = useState<{ person?: string }>();
  const operator = person.role === "operator";
  const [tokensOf, setTokensOf] = useState<string>();
  const people = useQuery(everybody);
  const teams = useQuery(teamsOf);
  const done = useDone("people");
  const change = useMutation({
    mutationFn: ({ name, ...body }: { name: string; role?: Person["role"]; team?: string; closed?: boolean }) => changePerson(name, body),
    ...done,
  });
  const erase = useMutation({ mutationFn: erasePerson, ...done });
  const addTeam = useMutation({ mutationFn: addTeamOf, ...done });
  const words = (get("find") ?? "").toLowerCase();
  const team = get("team");
  const role = get("role");
  const rows = (people.data ?? []).filter((p) => (!team || p.team === team) && (!role || p.role === role) && [p.name, p.full_name.toLowerCase(), p.email].some((v) => v.includes(words)));
  const by = sorting<Person>(get("sort") ?? "name");
  return (
    <>
      <PageHead
        title="People"
        action={
          (operator || (person.role === "lead" && person.team)) && (
            <Space>
              <AddProgram person={person} teams={(teams.data ?? []).map((t) => t.name)} />
              {operator && (
                <>
                  <Button
                    onClick={() => {
                      let name = "";
                      modal.confirm({ title: "Add a team", icon: null, content: <Input autoFocus aria-label="Name of the team" placeholder="Harbour" onChange={(e) => (name = e.target.value)} />, okText: "Add", onOk: () => addTeam.mutateAsync(name).catch(() => undefined) });
                    }}
                  >
                    Add a team
                  </Button>
                  <Button type="primary" onClick={() => setEnrolling({})}>
                    Make an enrolment link
                  </Button>
                </>
              )}
            </Space>
          )
        }
      >
        <Input allowClear placeholder="Find by name or address" aria-label="Find" style={{ width: 220 }} value={get("find") ?? ""} onChange={(e) => set({ find: e.target.value })} />
        <Select allowClear placeholder="Any role" aria-label="Role" style={{ width: 130 }} value={role} options={roles.map((r) => ({ value: r, label: r }))} onChange={(r?: string) => set({ role: r })} />
        <Select allowClear placeholder="Any team" aria-label="Team" style={{ width: 140 }} value={team} options={teams.data?.map((t) => ({ value: t.name, label: t.name }))} onChange={(t?: string) => set({ team: t })} />
        <span className="quiet number">{rows.length} shown</span>
      </PageHead>
      <ProblemNote error={people.error ?? teams.error} />
      {operator && <OpenLinks />}
      {tokensOf && <ProgramTokens of={tokensOf} onClose={() => setTokensOf(undefined)} />}
      <Table<Person>
        size="small"
        rowKey="name"
        virtual
        scroll={{ x: 900, y: 640 }}
        pagination={false}
        loading={people.isPending}
        dataSource={rows}
        onChange={(_, __, s) => set({ sort: sorted(s) })}
        locale={nothing("Nobody fits what you look for.")}
        columns={[
          { title: "Name", width: 120, ...by("name", (a, b) => a.name.localeCompare(b.name)), render: (_, p) => p.name },
          { title: "Full name", width: 170, ...by("full", (a, b) => a.full_name.localeCompare(b.full_name)), render: (_, p) => (p.program ? <Tooltip title="An account of programs"><span><RobotOutlined /> {p.full_name}</span></Tooltip> : p.full_name) },
          { title: "Address", width: 230, dataIndex: "email", key: "email" },
          {
            title: "Role",
            width: 140,
            ...by("role", (a, b) => roles.indexOf(a.role) - roles.indexOf(b.role)),
            render: (_, p) =>
              operator && p.name !== person.name ? (
                <Select size="small" variant="borderless" style={{ width: 120 }} aria-label={`Role of ${p.name}`} value={p.role} options={roles.map((r) => ({ value: r, label: r }))} onChange={(r) => change.mutate({ name: p.name, role: r })} />
              ) : (
                p.role
              ),
          },
          {
            title: "Team",
            width: 150,
            ...by("team", (a, b) => (a.team ?? "").localeCompare(b.team ?? "")),
            render: (_, p) =>
              operator ? (
                <Select
                  size="small"
                  variant="borderless"
                  style={{ width: 130 }}
                  aria-label={`Team of ${p.name}`}
                  value={p.team ?? ""}
                  options={[{ value: "", label: "none" }, ...(teams.data ?? []).map((t) => ({ value: t.name, label: t.name }))]}
                  onChange={(t: string) => change.mutate({ name: p.name, team: t })}
                />
              ) : (
                p.team
              ),
          },
          {
            title: "Account",
            width: 110,
            key: "account",
            render: (_, p) =>
              p.closed ? (
                <span style={{ color: colours.rest }}>
                  <PauseCircleFilled /> closed
                </span>
              ) : (
                <span style={{ color: token.colorSuccess }}>
                  <CheckCircleFilled /> open
                </span>
              ),
          },
          {
            title: "",
            key: "actions",
            width: 270,
            align: "right",
            render: (_, p) =>
              (operator || p.program) &&
              person.role !== "auditor" &&
              p.name !== person.name && (
                <Space>
                  {p.program ? (
                    <Button size="small" onClick={() => setTokensOf(p.name)}>
                      Tokens
                    </Button>
                  ) : (
                    <Button size="small" onClick={() => setEnrolling({ person: p.name })}>
                      New password
                    </Button>
                  )}
                  {!operator ? null : p.closed ? (
                    <>
                      <Button size="small" onClick={() => change.mutate({ name: p.name, closed: false })}>
                        Open
                      </Button>
                      <Button
                        size="small"
                        danger
                        onClick={() =>
                          modal.confirm({
                            title: `Erase ${p.full_name}?`,
                            content: "Everything that is known of them is taken away: name, e-mail address, sign-ins, secrets, credentials. What they did stays in the journal under a made-up name. This cannot be undone.",
                            okText: "Erase",
                            okButtonProps: { danger: true },
                            onOk: () => erase.mutateAsync(p.name).catch(() => undefined),
                          })
                        }
                      >
                        Erase
                      </Button>
                    </>
                  ) : (
                    <Button
                      size="small"
                      danger
                      onClick={() =>
                        modal.confirm({
                          title: `Close the account of ${p.full_name}?`,
                          content: "They are signed out everywhere and may not sign in. Their workspaces stay, for you to stop or remove.",
                          okText: "Close",
                          okButtonProps: { danger: true },
                          onOk: () => change.mutateAsync({ name: p.name, closed: true }).catch(() => undefined),
                        })
                      }
                    >
                      Close
                    </Button>
                  )}
                </Space>
              ),
          },
        ]}
      />
      {enrolling && <MakeLink person={enrolling.person} teams={teams.data?.map((t) => t.name) ?? []} onClose={() => setEnrolling(undefined)} />}
    </>
  );
}

/** The enrolment links that nobody has used yet. */
function OpenLinks() {
  const links = useQuery(openLinks);
  const end = useMutation({ mutationFn: endLink, ...useDone("people") });
  if (!links.data?.length) return <ProblemNote error={links.error} />;
  return (
    <details aria-label="Open links" style={{ marginBottom: 16 }}>
      <summary style={{ cursor: "pointer" }}>{links.data.length === 1 ? "1 enrolment link can still be used" : `${links.data.length} enrolment links can still be used`}</summary>
      <Table
        size="small"
        rowKey="id"
        pagination={false}
        dataSource={links.data}
        columns={[
          { title: "For", render: (_, e) => (e.person ? `a new password for ${e.person}` : ["a new " + e.role, e.team].filter(Boolean).join(", ")) },
          { title: "Made by", dataIndex: "made_by", width: 160 },
          { title: "Until", dataIndex: "expires_at", width: 220, render: (at: string) => when(at) },
          {
            title: "",
            key: "actions",
            width: 130,
            align: "right",
            render: (_, e) => (
              <Button size="small" danger loading={end.isPending && end.variables === e.id} onClick={() => end.mutate(e.id)}>
                Take back
              </Button>
            ),
          },
        ]}
      />
    </details>
  );
}

type Fields = { role: Person["role"]; team?: string; hours: number };

function MakeLink({ person, teams, onClose }: { person?: string; teams: string[]; onClose: () => void }) {
  return (
    <Ask<Fields, Awaited<ReturnType<typeof makeLink>>>
      title={person ? `A new password for ${person}` : "Bring somebody in"}
      ok="Make the link"
      initial={{ role: "developer", hours: 72 }}
      ask={(f) => makeLink(person ? { person, hours: f.hours } : f)}
      changes={["people"]}
      onClose={onClose}
      shown={(made) => (
        <>
          <p>Send this link to them. It can be used once, until {when(made.expires_at)}, and is shown only now.</p>
          <Typography.Paragraph copyable code style={{ overflowWrap: "anywhere" }}>
            {made.link}
          </Typography.Paragraph>
        </>
      )}
    >
      {!person && (
        <>
          <Form.Item name="role" label="Role">
            <Select options={roles.map((r) => ({ value: r, label: r }))} />
          </Form.Item>
          <Form.Item name="team" label="Team">
            <Select allowClear placeholder="none" options={teams.map((t) => ({ value: t, label: t }))} />
          </Form.Item>
        </>
      )}
      <Form.Item name="hours" label="Can be used for">
        <Select options={[24, 72, 168].map((h) => ({ value: h, label: `${h} hours` }))} />
      </Form.Item>
    </Ask>
  );
}
