import { useQuery } from "@tanstack/react-query";
import { Tabs } from "antd";
import { Link, useParams } from "react-router";
import { LogView } from "../parts/LogView";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { SheetView } from "../parts/SheetView";
import { runSheet } from "../service/prebuilds";
import * as say from "words/pages/RunPage";

/** One making of a prepared image: its launch sheet and its log. */
export function RunPage() {
  const { run = "" } = useParams();
  const sheet = useQuery(runSheet(run));
  if (sheet.error) return <ProblemNote error={sheet.error} />;
  return (
    <>
      <PageHead title={say.prebuildRun()}>
        <Link to="/repositories">{say.repositoriesAndPrebuilds()}</Link>
      </PageHead>
      <Tabs
        destroyOnHidden
        items={[
          { key: "sheet", label: say.launchSheet(), children: sheet.data && <SheetView sheet={sheet.data} /> },
          { key: "log", label: say.log(), children: <LogView address={`/api/v1/prebuild-runs/${run}/log?follow=true`} /> },
        ]}
      />
    </>
  );
}
