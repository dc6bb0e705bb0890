import { CheckCircleFilled, MinusCircleOutlined } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Select, Table, theme } from "antd";
import { api, nameOf, take, type Port, type Workspace, whole } from "../api/client";
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

/** The ports of a workspace: what listens, where it is reached, and who may visit it. */
export function Ports({ workspace: w, own, look }: { workspace: Workspace; own: boolean; look?: (port: number) => void }) {
  const { token } = theme.useToken();
  const path = { workspace: nameOf(w) };
  const ports = useQuery({ queryKey: ["workspaces", "ports", nameOf(w)], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/ports", { signal, params: { path, query: page } })) });
  const done = useDone("workspaces");
  const share = useMutation({ mutationFn: ([p, visitors]: [Port, Port["visitors"]]) => take(api.PUT("/api/v1/workspaces/{workspace}/ports/{port}", { params: { path: { ...path, port: p.number } }, body: { visitors } })), ...done });
  return (
    <>
      <ProblemNote error={ports.error ?? share.error} />
      <Table<Port>
        size="small"
        rowKey="number"
        pagination={false}
        loading={ports.isPending}
        dataSource={ports.data}
        locale={nothing("The definition forwards no port, and nothing listens. What begins to listen shows here within seconds.")}
        columns={[
          { title: "Port", dataIndex: "number", align: "right", className: "number", width: 80 },
          ...(look
            ? [
                {
                  title: "",
                  key: "look",
                  width: 80,
                  render: (_: unknown, p: Port) => (
                    <Button size="small" onClick={() => look(p.number)} aria-label={`Preview port ${p.number}`}>
                      Preview
                    </Button>
                  ),
                },
              ]
            : []),
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
                {own ? (
                  <Select size="small" style={{ minWidth: 170 }} value={p.visitors} aria-label={`Who may visit port ${p.number}`} options={visitors} onChange={(v) => share.mutate([p, v])} />
                ) : (
                  visitors.find((v) => v.value === p.visitors)?.label
                )}
                {p.until && <span className="quiet"> until {when(p.until)}</span>}
              </>
            ),
          },
        ]}
      />
      <p className="quiet">
        To this machine: <code>yardbench forward {w.name} PORT</code>
      </p>
      {own && <LookLinks workspace={nameOf(w)} ports={(ports.data ?? []).map((p) => p.number)} />}
    </>
  );
}

