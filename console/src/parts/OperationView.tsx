import { CheckCircleFilled, ClockCircleOutlined, CloseCircleFilled, LoadingOutlined, MinusCircleFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Table, theme } from "antd";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Operation, Outcome } from "../api/client";
import { useColours } from "../palette";
import { ProblemNote } from "./ProblemNote";
import { when } from "words/times";
import { useDone } from "./useDone";
import { cancel as cancelIt, operation as operationOf, outcomes as outcomesOf } from "../service/operations";
import * as say from "words/parts/OperationView";

/** How an operation stands, in numbers. */
export function counted(o: Operation) {
  const parts: [number, string][] = [
    [o.done, "done"],
    [o.failed, "failed"],
    [o.refused, "refused"],
    [o.cancelled, "cancelled"],
    [o.under_way, say.underWay()],
    [o.waiting, "waiting"],
  ];
  return parts
    .filter(([n]) => n > 0)
    .map(([n, word]) => `${n} ${word}`)
    .join(", ");
}

/** What comes of an operation with each workspace, as it comes. */
export function OperationView({ id, owner = true }: { id: string; owner?: boolean }) {
  const operation = useQuery(operationOf(id));
  const o = operation.data;
  const outcomes = useQuery(outcomesOf(id, o && counted(o)));
  const cancel = useMutation({ mutationFn: () => cancelIt(id), ...useDone("operations") });
  return (
    <>
      <ProblemNote error={operation.error ?? outcomes.error} />
      {o && (
        <div className="facts-line">
          <span className="number" data-operation={o.ended_at ? "over" : "under way"}>
            {counted(o)}
          </span>
          {o.cancelled_by && <span className="quiet">{say.cancelledBy(o.cancelled_by)}</span>}
          <span className="spacer" />
          {!o.ended_at && owner && o.waiting > 0 && (
            <Button size="small" loading={cancel.isPending} onClick={() => cancel.mutate()}>
              {say.leaveTheRestAlone()}
            </Button>
          )}
        </div>
      )}
      <Table<Outcome>
        size="small"
        rowKey="number"
        pagination={false}
        virtual
        scroll={{ x: 560, y: 300 }}
        loading={outcomes.isPending}
        dataSource={outcomes.data}
        columns={[
          { title: say.workspace(), width: 200, render: (_, w) => <Link to={`/workspaces/${w.name}`}>{w.name}</Link> },
          { title: say.state(), width: 120, render: (_, w) => <Mark of={w} /> },
          { title: say.since(), width: 110, className: "number", render: (_, w) => when(w.at) },
          { title: say.why(), dataIndex: "detail", ellipsis: true },
        ]}
      />
    </>
  );
}

function Mark({ of: w }: { of: Outcome }) {
  const { token } = theme.useToken();
  const colours = useColours();
  const looks: Record<Outcome["state"], [ReactNode, string | undefined]> = {
    waiting: [<ClockCircleOutlined key="i" />, colours.rest],
    "under way": [<LoadingOutlined key="i" />, undefined],
    done: [<CheckCircleFilled key="i" />, token.colorSuccess],
    failed: [<CloseCircleFilled key="i" />, token.colorError],
    refused: [<CloseCircleFilled key="i" />, token.colorWarning],
    cancelled: [<MinusCircleFilled key="i" />, colours.rest],
  };
  const [icon, colour] = looks[w.state];
  return (
    <span data-outcome={w.state} style={{ color: colour, whiteSpace: "nowrap" }}>
      {icon} {w.state}
    </span>
  );
}
