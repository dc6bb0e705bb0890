import { useQuery } from "@tanstack/react-query";
import { Table } from "antd";
import type { Opening } from "../api/client";
import { openings } from "../service/rules";
import { ProblemNote } from "./ProblemNote";
import * as say from "words/parts/WhatIsOpen";

/** What of the installation is open, and how each is closed. */
export function WhatIsOpen({ inForce }: { inForce?: number }) {
  const open = useQuery(openings(inForce));
  return (
    <section aria-label={say.whatIsOpen()} style={{ marginTop: 24 }}>
      <h2>{say.whatIsOpen()}</h2>
      <ProblemNote error={open.error} />
      <Table<Opening>
        size="small"
        rowKey={(o) => o.kind + o.what}
        pagination={false}
        loading={open.isPending}
        dataSource={open.data}
        columns={[
          { title: say.of(), dataIndex: "area", width: 120 },
          { title: say.whatIsOpen(), dataIndex: "what" },
          { title: say.howItIsClosed(), dataIndex: "close" },
        ]}
      />
    </section>
  );
}
