import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Form, InputNumber, Select, Table, Tooltip, Typography } from "antd";
import { useState } from "react";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "./time";
import { useDone } from "./useDone";
import { end as endIt, lookLinks, make as makeIt } from "../service/lookLinks";

/** The links by which people who are not signed in see ports of a workspace. */
export function LookLinks({ workspace, ports }: { workspace: string; ports: number[] }) {
  const [making, setMaking] = useState(false);
  const links = useQuery(lookLinks(workspace));
  const end = useMutation({ mutationFn: (link: string) => endIt(workspace, link), ...useDone("look-links") });
  return (
    <>
      <h3>Look links</h3>
      <p>A look link shows one port to whoever holds it, signed in or not, until its time is over.</p>
      <ProblemNote error={links.error ?? end.error} />
      {links.data?.length === 0 ? <p className="quiet">There are none.</p> : <Table
        size="small"
        rowKey="id"
        pagination={false}
        loading={links.isPending}
        dataSource={links.data}
        columns={[
          { title: "Port", dataIndex: "port", align: "right", className: "number", width: 80 },
          { title: "Opened", render: (_, l) => (l.visits_most ? `${l.visits} of ${l.visits_most} times` : `${l.visits} times`) },
          { title: "Last", render: (_, l) => (l.visited_at ? <Tooltip title={exact(l.visited_at)}>{when(l.visited_at)}</Tooltip> : <span className="quiet">never</span>) },
          { title: "A visit", render: (_, l) => (l.wakes ? "starts the workspace, and keeps it from rest" : "does not start the workspace") },
          { title: "Until", render: (_, l) => <Tooltip title={exact(l.until)}>{when(l.until)}</Tooltip> },
          {
            title: "",
            align: "right",
            render: (_, l) => (
              <Button size="small" aria-label={`End it: the look link to port ${l.port}`} loading={end.isPending && end.variables === l.id} onClick={() => end.mutate(l.id)}>
                End it
              </Button>
            ),
          },
        ]}
      />}
      <Button style={{ marginTop: 8 }} disabled={ports.length === 0} onClick={() => setMaking(true)}>
        Make a look link
      </Button>
      {making && <MakeLink workspace={workspace} ports={ports} close={() => setMaking(false)} />}
    </>
  );
}

interface Asked {
  port: number;
  hours: number;
  visits?: number;
  wakes: boolean;
}

function MakeLink({ workspace, ports, close }: { workspace: string; ports: number[]; close: () => void }) {
  return (
    <Ask<Asked, Awaited<ReturnType<typeof makeIt>>>
      title="A link that shows a port"
      ok="Make it"
      initial={{ port: ports[0], hours: 24, wakes: false }}
      ask={(v) => makeIt(workspace, { port: v.port, seconds: Math.round(v.hours * 3600), visits_most: v.visits ?? 0, wakes: v.wakes })}
      changes={["look-links"]}
      onClose={close}
      shown={(made) => (
        <>
          <p>
            Whoever holds this sees port {made.port} until {when(made.until)}. It is shown this once:
          </p>
          <Typography.Paragraph copyable code style={{ overflowWrap: "anywhere" }}>
            {made.address}
          </Typography.Paragraph>
        </>
      )}
    >
      <Form.Item name="port" label="Which port">
        <Select options={ports.map((p) => ({ value: p, label: p }))} />
      </Form.Item>
      <Form.Item name="hours" label="For how many hours" rules={[{ required: true, message: "Say for how long." }]}>
        <InputNumber min={0.1} max={8760} />
      </Form.Item>
      <Form.Item name="visits" label="How often it may be opened" extra="Without a number, as often as people like.">
        <InputNumber min={1} max={100000} precision={0} />
      </Form.Item>
      <Form.Item name="wakes" valuePropName="checked">
        <Checkbox>A visit starts the workspace, and keeps it from rest</Checkbox>
      </Form.Item>
    </Ask>
  );
}
