import { CheckCircleFilled, MinusCircleOutlined } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Select, Table, theme } from "antd";
import { nameOf, type Port, type Workspace } from "../api/client";
import { ports, visitedBy } from "../service/workspaces";
import { LookLinks } from "./LookLinks";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { when } from "./time";
import { useDone } from "./useDone";

export const visitors: { value: Port["visitors"]; label: string }[] = [
  { value: "owner", label: "only its owner" },
  { value: "team", label: "the owner's team" },
  { value: "everybody", label: "everybody signed in" },
  { value: "public", label: "anybody at all" },
];

/** Who may visit a port, to be chosen by its owner. */
export function Visitors({ workspace, of: p }: { workspace: string; of: Port }) {
  const share = useMutation({ mutationFn: (v: Port["visitors"]) => visitedBy(workspace, p.number, v), ...useDone("workspaces") });
  return <Select size="small" style={{ minWidth: 170 }} value={p.visitors} aria-label={`Who may visit port ${p.number}`} options={visitors} loading={share.isPending} onChange={(v) => share.mutate(v)} />;
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
        locale={nothing("The definition forwards no port, and nothing listens. What begins to listen shows here within seconds.")}
        columns={[
          { title: "Port", dataIndex: "number", align: "right", className: "number", width: 80 },
          { title: "What", render: (_, p) => p.label || <span className="quiet">{p.declared ? "declared" : "not declared"}</span> },
          {
            title: "Listens",
            render: (_, p) =>
              p.listening ? (
                <span data-listening={p.number} style={{ color: token.colorSuccess }}>
                  <CheckCircleFilled /> {p.process}
                  {p.loopback && ", on loopback only"}
                </span>
              ) : (
                <span className="quiet">
                  <MinusCircleOutlined /> nothing
                </span>
              ),
          },
          {
            title: "Address",
            render: (_, p) => (
              <a href={p.address} target="_blank" rel="noreferrer">
                {p.address}
              </a>
            ),
          },
          {
            title: "Who may visit",
            render: (_, p) => (
              <>
                {own ? <Visitors workspace={nameOf(w)} of={p} /> : visitors.find((v) => v.value === p.visitors)?.label}
                {p.until && <span className="quiet"> until {when(p.until)}</span>}
              </>
            ),
          },
        ]}
      />
      <p className="quiet">
        To this machine: <code>yardbench forward {w.name} PORT</code>
      </p>
      {own && <LookLinks workspace={nameOf(w)} ports={(all.data ?? []).map((p) => p.number)} />}
    </>
  );
}

