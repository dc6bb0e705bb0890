import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Form, InputNumber, Select, Table, Tooltip, Typography } from "antd";
import { useState } from "react";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "words/times";
import { useDone } from "./useDone";
import { end as endIt, lookLinks, make as makeIt } from "../service/lookLinks";
import * as say from "words/parts/LookLinks";

/** The links by which people who are not signed in see ports of a workspace. */
export function LookLinks({ workspace, ports }: { workspace: string; ports: number[] }) {
  const [making, setMaking] = useState(false);
  const links = useQuery(lookLinks(workspace));
  const end = useMutation({ mutationFn: (link: string) => endIt(workspace, link), ...useDone("look-links") });
  return (
    <>
      <h3>{say.lookLinks()}</h3>
      <p>{say.aLookLinkShows()}</p>
      <ProblemNote error={links.error ?? end.error} />
      {links.data?.length === 0 ? (
        <p className="quiet">{say.thereAreNone()}</p>
      ) : (
        <Table
          size="small"
          rowKey="id"
          pagination={false}
          loading={links.isPending}
          dataSource={links.data}
          columns={[
            { title: say.port(), dataIndex: "port", align: "right", className: "number", width: 80 },
            { title: say.opened(), render: (_, l) => (l.visits_most ? say.ofTimes(l.visits, l.visits_most) : say.times(l.visits)) },
            { title: say.last(), render: (_, l) => (l.visited_at ? <Tooltip title={exact(l.visited_at)}>{when(l.visited_at)}</Tooltip> : <span className="quiet">{say.never()}</span>) },
            { title: say.aVisit(), render: (_, l) => (l.wakes ? say.startsTheWorkspaceAnd() : say.doesNotStartThe()) },
            { title: say.until(), render: (_, l) => <Tooltip title={exact(l.until)}>{when(l.until)}</Tooltip> },
            {
              title: "",
              align: "right",
              render: (_, l) => (
                <Button size="small" aria-label={say.endItTheLook(l.port)} loading={end.isPending && end.variables === l.id} onClick={() => end.mutate(l.id)}>
                  {say.endIt()}
                </Button>
              ),
            },
          ]}
        />
      )}
      <Button style={{ marginTop: 8 }} disabled={ports.length === 0} onClick={() => setMaking(true)}>
        {say.makeALookLink()}
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
      title={say.aLinkThatShows()}
      ok={say.makeIt()}
      initial={{ port: ports[0], hours: 24, wakes: false }}
      ask={(v) => makeIt(workspace, { port: v.port, seconds: Math.round(v.hours * 3600), visits_most: v.visits ?? 0, wakes: v.wakes })}
      changes={["look-links"]}
      onClose={close}
      shown={(made) => (
        <>
          <p>{say.whoeverHoldsThisSees(made.port, when(made.until))}</p>
          <Typography.Paragraph copyable code style={{ overflowWrap: "anywhere" }}>
            {made.address}
          </Typography.Paragraph>
        </>
      )}
    >
      <Form.Item name="port" label={say.whichPort()}>
        <Select options={ports.map((p) => ({ value: p, label: p }))} />
      </Form.Item>
      <Form.Item name="hours" label={say.forHowManyHours()} rules={[{ required: true, message: say.sayForHowLong() }]}>
        <InputNumber min={0.1} max={8760} />
      </Form.Item>
      <Form.Item name="visits" label={say.howOftenItMay()} extra={say.withoutANumberAs()}>
        <InputNumber min={1} max={100000} precision={0} />
      </Form.Item>
      <Form.Item name="wakes" valuePropName="checked">
        <Checkbox>{say.aVisitStartsThe()}</Checkbox>
      </Form.Item>
    </Ask>
  );
}
