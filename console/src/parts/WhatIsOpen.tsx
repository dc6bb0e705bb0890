import { useQuery } from "@tanstack/react-query";
import { Table } from "antd";
import type { Opening } from "../api/client";
import { openings } from "../service/rules";
import { ProblemNote } from "./ProblemNote";

/** What of the installation is open, and how each is closed. */
export function WhatIsOpen({ inForce }: { inForce?: number }) {
  const open = useQuery(openings(inForce));
  return (
    <section aria-label="What is open" style={{ marginTop: 24 }}>
      <h2>What is open</h2>
      <ProblemNote error={open.error} />
      <Table<Opening>
        size="small"
        rowKey={(o) => o.kind + o.what}
        pagination={false}
        loading={open.isPending}
        dataSource={open.data}
        columns={[
          { title: "Of", dataIndex: "area", width: 120 },
          { title: "What is open", dataIndex: "what" },
          { title: "How it is closed", dataIndex: "close" },
        ]}
      />
    </section>
  );
}
