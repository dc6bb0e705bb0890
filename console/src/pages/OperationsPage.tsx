import { useQuery } from "@tanstack/react-query";
import { Table, Tooltip } from "antd";
import { Link } from "react-router";
import { type Operation, type Me, may } from "../api/client";
import { counted, OperationView } from "../parts/OperationView";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { exact, when } from "words/times";
import { operations } from "../service/operations";
import * as say from "words/pages/OperationsPage";

/** What was asked of many workspaces at once, and what came of it. */
export function OperationsPage({ person }: { person: Me }) {
  const [get, set] = useAddress();
  const list = useQuery(operations);
  const open = get("open");
  return (
    <>
      <PageHead title={say.operations()}>
        <Link to={may(person, "workspace.see", "team", "other") ? "/fleet" : "/mine"}>{say.chooseWorkspacesAndAsk()}</Link>
      </PageHead>
      <ProblemNote error={list.error} />
      <Table<Operation>
        size="small"
        rowKey="id"
        pagination={{ hideOnSinglePage: true, pageSize: 50 }}
        loading={list.isPending}
        dataSource={list.data}
        locale={nothing(say.nothingWasAskedOf())}
        expandable={{ expandedRowKeys: open ? [open] : [], onExpand: (yes, o) => set({ open: yes ? o.id : undefined }), expandRowByClick: true, expandedRowRender: (o) => <OperationView id={o.id} owner={o.by === person.name || may(person, "workspace.drive", "other")} /> }}
        columns={[
          { title: say.verb(), dataIndex: "verb", width: 110 },
          { title: say.whatCameOfIt(), render: (_, o) => <span className="number">{counted(o)}</span> },
          { title: say.reason(), dataIndex: "reason", ellipsis: true },
          { title: say.by(), dataIndex: "by", width: 100 },
          {
            title: say.asked(),
            width: 140,
            render: (_, o) => (
              <Tooltip title={exact(o.made_at)}>
                <span className="number">{when(o.made_at)}</span>
              </Tooltip>
            ),
          },
          { title: say.over(), width: 140, render: (_, o) => (o.ended_at ? <span className="number">{when(o.ended_at)}</span> : <span className="quiet">{say.underWay()}</span>) },
        ]}
      />
    </>
  );
}
