import { useQuery } from "@tanstack/react-query";
import { Tabs } from "antd";
import { Link, useParams } from "react-router";
import { LogView } from "../parts/LogView";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { SheetView } from "../parts/SheetView";
import { runSheet } from "../service/prebuilds";

/** One making of a prepared image: its launch sheet and its log. */
export function RunPage() {
  const { run = "" } = useParams();
  const sheet = useQuery(runSheet(run));
  if (sheet.error) return <ProblemNote error={sheet.error} />;
  return (
    <>
      <PageHead title="Prebuild run">
        <Link to="/repositories">Repositories and prebuilds</Link>
      </PageHead>
      <Tabs
        destroyOnHidden
        items={[
          { key: "sheet", label: "Launch sheet", children: sheet.data && <SheetView sheet={sheet.data} /> },
          { key: "log", label: "Log", children: <LogView address={`/api/v1/prebuild-runs/${run}/log?follow=true`} /> },
        ]}
      />
    </>
  );
}
