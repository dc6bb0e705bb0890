import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Space, Table, Tooltip } from "antd";
import { Link } from "react-router";
import { bytes } from "./amounts";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "./time";
import { useDone } from "./useDone";
import { end as endIt, recordings, remove as removeIt } from "../service/recordings";

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
      {of && <h3>Recordings</h3>}
      <ProblemNote error={all.error} />
      <Table
        size="small"
        rowKey="id"
        pagination={rows.length > 50 ? { pageSize: 50 } : false}
        loading={all.isPending}
        dataSource={rows}
        locale={nothing("Nothing was recorded that you may see.")}
        columns={[
          { title: "Began", render: (_, r) => <Tooltip title={exact(r.began_at)}>{when(r.began_at)}</Tooltip> },
          ...(of ? [] : [{ title: "Workspace", render: (_: unknown, r: (typeof rows)[number]) => `${r.workspace}.${r.owner}` }]),
          { title: "Terminal", dataIndex: "terminal" },
          { title: "As", render: (_, r) => (r.asked ? "its owner asked" : "the house rules have it") },
          { title: "Ended", render: (_, r) => (r.ended_at ? <Tooltip title={r.why}>{when(r.ended_at)}</Tooltip> : "it goes on") },
          { title: "Size", align: "right", className: "number", render: (_, r) => bytes(r.bytes) },
          {
            title: "",
            align: "right",
            render: (_, r) => (
              <Space>
                <Link to={`/recordings/${r.id}`}>Look at it</Link>
                {r.asked && r.owner === mine && !r.ended_at && (
                  <Button size="small" loading={end.isPending && end.variables === r.id} onClick={() => end.mutate(r.id)}>
                    End it
                  </Button>
                )}
                {r.asked && r.owner === mine && r.ended_at && (
                  <Button size="small" loading={remove.isPending && remove.variables === r.id} onClick={() => remove.mutate(r.id)}>
                    Remove
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
