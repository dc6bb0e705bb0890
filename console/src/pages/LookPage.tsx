import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { useParams } from "react-router";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { when } from "words/times";
import { looksOfOthers } from "../service/terminals";
import * as say from "words/pages/LookPage";

const TerminalView = lazy(() => import("../parts/TerminalView").then((m) => ({ default: m.TerminalView })));

/** A terminal of somebody else's, which they let one look at. */
export function LookPage() {
  const { ref = "", label = "" } = useParams();
  const looks = useQuery(looksOfOthers);
  const mine = looks.data?.find((l) => `${l.workspace}.${l.owner}` === ref && l.terminal === label);
  return (
    <>
      <PageHead title={say.terminalOf(label, ref)}>{mine && <span className="quiet">{mine.writes ? say.untilYouMayType(when(mine.until), mine.owner) : say.untilYouMayLook(when(mine.until))}</span>}</PageHead>
      <ProblemNote error={looks.error} />
      <Suspense fallback={null}>
        <TerminalView workspace={ref} label={label} />
      </Suspense>
    </>
  );
}
