import { CheckCircleFilled, PauseCircleFilled, RobotOutlined } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Select, Space, Table, theme } from "antd";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import { type Person, type Me, may, ledBy, ofTeam } from "../api/client";
import { CloseAccount } from "../parts/CloseAccount";
import { PageHead } from "../parts/Page";
import { Ask } from "../parts/Ask";
import { Guests, InviteGuest } from "../parts/Guests";
import { ProblemNote } from "../parts/ProblemNote";
import { ShownOnce } from "../parts/ShownOnce";
import { AddProgram, ProgramTokens } from "../parts/Programs";
import { byText, type Filter } from "../parts/fitting";
import { List, type Column } from "../parts/List";
import { when } from "words/times";
import { Teams } from "../parts/Teams";
import { useDone } from "../parts/useDone";
import { useColours } from "../palette";
import { addTeam as addTeamOf, changePerson, endLink, erasePerson, makeLink, openLinks, people as everybody, teams as teamsOf } from "../service/people";
import * as say from "words/pages/PeoplePage";

const roles = ["operator", "lead", "developer", "auditor"] as const;

type Row = Person & { id: string };

const filters: Filter<Row>[] = [
  { key: "role", any: say.anyRole(), of: (p) => [p.role] },
  { key: "team", any: say.anyTeam(), of: (p) => [p.team ?? "", ...(p.also ?? []).map((m) => m.team)] },
  { key: "account", any: say.anyAccount(), of: (p) => [p.closed ? say.closed() : say.open(), p.program ? say.ofPrograms() : ""] },
];
const texts = (p: Row) => [p.name, p.full_name, p.email];

type Membership = { team: string; leads?: boolean };

// A team beside somebody's own as one value of a list of choices; names hold no line end.
const asOption = (m: Membership) => (m.leads ? m.team + "\n" : m.team);

/** What was chosen, with the later choice for a team in the place of the earlier. */
function chosen(values: string[]): Membership[] {
  const of = new Map(values.map((v) => [v.trimEnd(), v.endsWith("\n")]));
  return [...of].map(([team, leads]) => ({ team, leads }));
}

const alsoIn = (p: { also?: Membership[] }) => (p.also ?? []).map((m) => (m.leads ? say.leads(m.team) : m.team)).join(", ");

/** Who is here, in which team and role; operators bring people in and out. */
export function PeoplePage({ person }: { person: Me }) {
  const { token } = theme.useToken();
  const colours = useColours();
  const { modal } = App.useApp();
  const [enrolling, setEnrolling] = useState<{ person?: string }>();
  const [inviting, setInviting] = useState(false);
  const [closing, setClosing] = useState<Person>();
  const brings = may(person, "people.change");
  const [tokensOf, setTokensOf] = useState<string>();
  const people = useQuery(everybody);
  const teams = useQuery(teamsOf);
  const done = useDone("people");
  const change = useMutation({
    mutationFn: ({ name, ...body }: { name: string; role?: (typeof roles)[number]; team?: string; also?: Membership[]; closed?: boolean }) => changePerson(name, body),
    ...done,
  });
  const erase = useMutation({ mutationFn: erasePerson, ...done });
  const addTeam = useMutation({ mutationFn: addTeamOf, ...done });
  const rows = useMemo(() => (people.data ?? []).map((p) => ({ ...p, id: p.name })), [people.data]);
  const leads = ledBy(person);
  const known = useMemo(() => (teams.data ?? []).map((t) => t.name), [teams.data]);
  const columns: Column<Row>[] = [
    { key: "name", title: say.name(), width: 110, compare: (a, b) => byText(a.name, b.name), render: (p) => p.name },
    {
      key: "full",
      title: say.fullName(),
      width: 150,
      compare: (a, b) => byText(a.full_name, b.full_name),
      render: (p) =>
        p.program ? (
          <span title={say.anAccountOfPrograms()}>
            <RobotOutlined /> {p.full_name}
          </span>
        ) : (
          p.full_name
        ),
    },
    { key: "email", title: say.address(), width: 200, compare: (a, b) => byText(a.email, b.email), render: (p) => p.email },
    {
      key: "role",
      title: say.role(),
      width: 130,
      compare: (a, b) => byText(a.role, b.role),
      render: (p) =>
        brings && p.name !== person.name ? (
          <Select size="small" variant="borderless" style={{ width: "100%" }} aria-label={say.roleOf(p.name)} value={p.role as (typeof roles)[number]} options={roles.map((r) => ({ value: r, label: r }))} onChange={(r: (typeof roles)[number]) => change.mutate({ name: p.name, role: r })} />
        ) : (
          p.role
        ),
    },
    {
      key: "team",
      title: say.team(),
      width: 140,
      compare: (a, b) => byText(a.team ?? "", b.team ?? ""),
      render: (p) =>
        brings ? <Select size="small" variant="borderless" style={{ width: "100%" }} aria-label={say.teamOf(p.name)} value={p.team ?? ""} options={[{ value: "", label: say.none() }, ...known.map((t) => ({ value: t, label: t }))]} onChange={(t: string) => change.mutate({ name: p.name, team: t })} /> : p.team,
    },
    {
      key: "also",
      title: say.alsoIn(),
      width: 170,
      compare: (a, b) => byText(alsoIn(a), alsoIn(b)),
      render: (p) =>
        brings && !p.program && p.role !== "guest" && p.role !== "auditor" ? (
          <Select
            size="small"
            variant="borderless"
            mode="multiple"
            maxTagCount="responsive"
            style={{ width: "100%" }}
            aria-label={say.alsoInOf(p.name)}
            placeholder={say.none()}
            value={(p.also ?? []).map(asOption)}
            options={known.filter((t) => t !== p.team).flatMap((team) => [{ team }, { team, leads: true }].map((m) => ({ value: asOption(m), label: m.leads ? say.leads(m.team) : m.team })))}
            onChange={(values: string[]) => change.mutate({ name: p.name, also: chosen(values) })}
          />
        ) : (
          alsoIn(p)
        ),
    },
    {
      key: "account",
      title: say.account(),
      width: 90,
      compare: (a, b) => Number(a.closed) - Number(b.closed),
      render: (p) =>
        p.closed ? (
          <span style={{ color: colours.rest }}>
            <PauseCircleFilled /> {say.closed()}
          </span>
        ) : (
          <span style={{ color: token.colorSuccess }}>
            <CheckCircleFilled /> {say.open()}
          </span>
        ),
    },
    {
      key: "actions",
      title: "",
      width: 230,
      align: "right",
      render: (p) =>
        (brings || (p.program && may(person, "service-account.change", ofTeam(person, p.team)))) &&
        p.name !== person.name && (
          <Space>
            {p.program ? (
              <Button size="small" onClick={() => setTokensOf(p.name)}>
                {say.tokens()}
              </Button>
            ) : (
              <Button size="small" onClick={() => setEnrolling({ person: p.name })}>
                {say.newPassword()}
              </Button>
            )}
            {!brings ? null : p.closed ? (
              <>
                <Button size="small" onClick={() => change.mutate({ name: p.name, closed: false })}>
                  {say.open2()}
                </Button>
                <Button
                  size="small"
                  danger
                  onClick={() =>
                    modal.confirm({
                      title: say.eraseOfFullName(p.full_name),
                      content: say.everythingThatIsKnown(),
                      okText: say.erase(),
                      okButtonProps: { danger: true },
                      onOk: () => erase.mutateAsync(p.name).catch(() => undefined),
                    })
                  }
                >
                  {say.erase()}
                </Button>
              </>
            ) : (
              <Button size="small" danger onClick={() => setClosing(p)}>
                {say.close()}
              </Button>
            )}
          </Space>
        ),
    },
  ];
  return (
    <>
      <PageHead
        title={say.people()}
        action={
          may(person, "service-account.change", "team", "other") && (
            <Space>
              <Button onClick={() => setInviting(true)}>{say.inviteAGuest()}</Button>
              <AddProgram person={person} teams={(teams.data ?? []).map((t) => t.name)} />
              {brings && (
                <>
                  <Button
                    onClick={() => {
                      let name = "";
                      modal.confirm({ title: say.addATeam(), icon: null, content: <Input autoFocus aria-label={say.nameOfTheTeam()} placeholder={say.harbour()} onChange={(e) => (name = e.target.value)} />, okText: say.add(), onOk: () => addTeam.mutateAsync(name).catch(() => undefined) });
                    }}
                  >
                    {say.addATeam()}
                  </Button>
                  <Button type="primary" onClick={() => setEnrolling({})}>
                    {say.makeAnEnrolmentLink()}
                  </Button>
                </>
              )}
            </Space>
          )
        }
      >
        {may(person, "provider.see") && <Link to="/providers">{say.identityProviders()}</Link>}
      </PageHead>
      <ProblemNote error={people.error ?? teams.error} />
      {brings && <OpenLinks />}
      {may(person, "guest.change", "team", "other") && <Guests />}
      {closing && <CloseAccount of={closing} onClose={() => setClosing(undefined)} />}
      {inviting && <InviteGuest teams={brings ? known : leads} team={leads[0]} onClose={() => setInviting(false)} />}
      {tokensOf && <ProgramTokens of={tokensOf} onClose={() => setTokensOf(undefined)} />}
      <List<Row> rows={rows} columns={columns} filters={filters} texts={texts} usual="name" find={say.findByNameOr()} loading={people.isPending} empty={say.nobodyFitsWhatYou()} head={(shown) => <span className="quiet number">{say.shown(shown.length)}</span>} />
      {brings && <Teams />}
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
    <details aria-label={say.openLinks()} style={{ marginBottom: 16 }}>
      <summary style={{ cursor: "pointer" }}>{links.data.length === 1 ? say.n1EnrolmentLinkCan() : say.enrolmentLinksCanStill(links.data.length)}</summary>
      <Table
        size="small"
        rowKey="id"
        pagination={false}
        dataSource={links.data}
        columns={[
          { title: say.forIt(), render: (_, e) => (e.person ? say.aNewPasswordFor(e.person) : [e.name, say.aNew() + e.role, e.team].filter(Boolean).join(", ")) },
          { title: say.madeBy(), dataIndex: "made_by", width: 160 },
          { title: say.until(), dataIndex: "expires_at", width: 220, render: (at: string) => when(at) },
          {
            title: "",
            key: "actions",
            width: 130,
            align: "right",
            render: (_, e) => (
              <Button size="small" danger loading={end.isPending && end.variables === e.id} onClick={() => end.mutate(e.id)}>
                {say.takeBack()}
              </Button>
            ),
          },
        ]}
      />
    </details>
  );
}

type Fields = { name?: string; full_name?: string; email?: string; role: (typeof roles)[number]; team?: string; hours: number };

function MakeLink({ person, teams, onClose }: { person?: string; teams: string[]; onClose: () => void }) {
  return (
    <Ask<Fields, Awaited<ReturnType<typeof makeLink>>>
      title={person ? say.aNewPasswordForOfPerson(person) : say.bringSomebodyIn()}
      ok={say.makeTheLink()}
      initial={{ role: "developer", hours: 72 }}
      ask={(f) => makeLink(person ? { person, hours: f.hours } : f)}
      changes={["people"]}
      onClose={onClose}
      shown={(made) => <ShownOnce says={say.sendThisLinkTo(when(made.expires_at))} link={made.link} />}
    >
      {!person && (
        <>
          <Form.Item name="name" label={say.name()} extra={say.leftToThem()}>
            <Input spellCheck={false} />
          </Form.Item>
          <Form.Item name="full_name" label={say.fullName()}>
            <Input />
          </Form.Item>
          <Form.Item name="email" label={say.mailAddress()}>
            <Input />
          </Form.Item>
          <Form.Item name="role" label={say.role()}>
            <Select options={roles.map((r) => ({ value: r, label: r }))} />
          </Form.Item>
          <Form.Item name="team" label={say.team()}>
            <Select allowClear placeholder={say.none()} options={teams.map((t) => ({ value: t, label: t }))} />
          </Form.Item>
        </>
      )}
      <Form.Item name="hours" label={say.canBeUsedFor()}>
        <Select options={[24, 72, 168].map((h) => ({ value: h, label: say.hours(h) }))} />
      </Form.Item>
    </Ask>
  );
}
