import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { ProblemNote } from "../parts/ProblemNote";
import { visitPass } from "../service/workspaces";
import * as say from "words/pages/VisitPage";

/** Leads somebody who is signed in on to a port's address. */
export function VisitPage() {
  const [search] = useSearchParams();
  const address = search.get("to") ?? "";
  const pass = useQuery(visitPass(address));
  const go = pass.data?.go;
  useEffect(() => {
    if (go) location.replace(go);
  }, [go]);
  return pass.error ? <ProblemNote error={pass.error} /> : <p className="quiet">{say.goingOnTo(address)}</p>;
}
