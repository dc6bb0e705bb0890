import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Space, Table, Tooltip } from "antd";
import { Link } from "react-router";
import { bytes } from "words/amounts";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "words/times";
import { useDone } from "./useDone";
import { end as endIt, recordings, remove as removeIt } from "../service/recordings";
import * as say from "words/parts/Recordings";

/** The recordings that one may see; of one workspace, where it is named as NAME.OWNER. */
export function Recordings({ of, mine }: { of?: string; mine?: string }) {
  const all = useQuery(recordings);
  const done = useDone("recordings", "terminals");
  const end = useMutation({ mutationFn: endIt, ...done });
  const remove = useMutation({ mutationFn: removeIt, ...done });
  const rows = (all.data ?? []).filter((r) => !of || `${r.workspace}.${r.owner}` === of);
  if (of && rows.length === 0) return null;
  return (
    <>
      {of && <h3>{say.recordings()}</h3>}
      <ProblemNote error={all.error} />
      <Table
        size="small"
        rowKey="id"
        pagination={rows.length > 50 ? { pageSize: 50 } : false}
        loading={all.isPending}
        dataSource={rows}
        locale={nothing(say.nothingWasRecordedThat())}
        columns={[
          { title: say.began(), render: (_, r) => <Tooltip title={exact(r.began_at)}>{when(r.began_at)}</Tooltip> },
          ...(of ? [] : [{ title: say.workspace(), render: (_: unknown, r: (typeof rows)[number]) => `${r.workspace}.${r.owner}` }]),
          { title: say.terminal(), dataIndex: "terminal" },
          { title: say.as(), render: (_, r) => (r.asked ? say.itsOwnerAsked() : say.theHouseRulesHave()) },
          { title: say.ended(), render: (_, r) => (r.ended_at ? <Tooltip title={r.why}>{when(r.ended_at)}</Tooltip> : say.itGoesOn()) },
          { title: say.size(), align: "right", className: "number", render: (_, r) => bytes(r.bytes) },
          {
            title: "",
            align: "right",
            render: (_, r) => (
              <Space>
                <Link to={`/recordings/${r.id}`}>{say.lookAtIt()}</Link>
                {r.asked && r.owner === mine && !r.ended_at && (
                  <Button size="small" loading={end.isPending && end.variables === r.id} onClick={() => end.mutate(r.id)}>
                    {say.endIt()}
                  </Button>
                )}
                {r.asked && r.owner === mine && r.ended_at && (
                  <Button size="small" loading={remove.isPending && remove.variables === r.id} onClick={() => remove.mutate(r.id)}>
                    {say.remove()}
                  </Button>
                )}
              </Space>
            ),
          },
        ]}
      />
    </>
  );
}
