import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { useParams } from "react-router";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { when } from "../parts/time";
import { looksOfOthers } from "../service/terminals";

const TerminalView = lazy(() => import("../parts/TerminalView").then((m) => ({ default: m.TerminalView })));

/** A terminal of somebody else's, which they let one look at. */
export function LookPage() {
  const { ref = "", label = "" } = useParams();
  const looks = useQuery(looksOfOthers);
  const mine = looks.data?.find((l) => `${l.workspace}.${l.owner}` === ref && l.terminal === label);
  return (
    <>
      <PageHead title={`Terminal ${label} of ${ref}`}>
        {mine && (
          <span className="quiet">
            {mine.writes ? `until ${when(mine.until)} you may type, too: what you do is done as ${mine.owner}` : `until ${when(mine.until)} you may look; what you type goes nowhere`}
          </span>
        )}
      </PageHead>
      <ProblemNote error={looks.error} />
      <Suspense fallback={null}>
        <TerminalView workspace={ref} label={label} />
      </Suspense>
    </>
  );
}
