import { CheckCircleFilled, MinusCircleOutlined } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Select, Table, theme } from "antd";
import { nameOf, type Port, type Workspace } from "../api/client";
import { ports, visitedBy } from "../service/workspaces";
import { LookLinks } from "./LookLinks";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { when } from "words/times";
import { useDone } from "./useDone";
import * as say from "words/parts/Ports";

export const visitors: { value: Port["visitors"]; label: string }[] = [
  { value: "owner", label: say.onlyItsOwner() },
  { value: "team", label: say.theOwnersTeam() },
  { value: "everybody", label: say.everybodySignedIn() },
  { value: "public", label: say.anybodyAtAll() },
];

/** Who may visit a port, to be chosen by its owner. */
export function Visitors({ workspace, of: p }: { workspace: string; of: Port }) {
  const share = useMutation({ mutationFn: (v: Port["visitors"]) => visitedBy(workspace, p.number, v), ...useDone("workspaces") });
  return <Select size="small" style={{ minWidth: 170 }} value={p.visitors} aria-label={say.whoMayVisitPort(p.number)} options={visitors} loading={share.isPending} onChange={(v) => share.mutate(v)} />;
}

/** The ports of a workspace: what listens, where it is reached, and who may visit it. */
export function Ports({ workspace: w, own }: { workspace: Workspace; own: boolean }) {
  const { token } = theme.useToken();
  const all = useQuery(ports(nameOf(w)));
  return (
    <>
      <ProblemNote error={all.error} />
      <Table<Port>
        size="small"
        rowKey="number"
        pagination={false}
        loading={all.isPending}
        dataSource={all.data}
        locale={nothing(say.theDefinitionForwardsNo())}
        columns={[
          { title: say.port(), dataIndex: "number", align: "right", className: "number", width: 80 },
          { title: say.what(), render: (_, p) => p.label || <span className="quiet">{p.declared ? say.declared() : say.notDeclared()}</span> },
          {
            title: say.listens(),
            render: (_, p) =>
              p.listening ? (
                <span data-listening={p.number} style={{ color: token.colorSuccess }}>
                  <CheckCircleFilled /> {p.process}
                  {p.loopback && say.onLoopbackOnly()}
                </span>
              ) : (
                <span className="quiet">
                  <MinusCircleOutlined /> {say.nothing()}
                </span>
              ),
          },
          {
            title: say.address(),
            render: (_, p) => (
              <a href={p.address} target="_blank" rel="noreferrer">
                {p.address}
              </a>
            ),
          },
          {
            title: say.whoMayVisit(),
            render: (_, p) => (
              <>
                {own ? <Visitors workspace={nameOf(w)} of={p} /> : visitors.find((v) => v.value === p.visitors)?.label}
                {p.until && <span className="quiet">{say.until(when(p.until))}</span>}
              </>
            ),
          },
        ]}
      />
      <p className="quiet">{say.toThisMachine(<code>{say.yardbenchForwardPort(w.name)}</code>)}</p>
      {own && <LookLinks workspace={nameOf(w)} ports={(all.data ?? []).map((p) => p.number)} />}
    </>
  );
}
