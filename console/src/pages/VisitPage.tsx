import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { api, take } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";

/** Leads somebody who is signed in on to a port's address. */
export function VisitPage() {
  const [search] = useSearchParams();
  const address = search.get("to") ?? "";
  const pass = useQuery({ queryKey: ["visit", address], queryFn: ({ signal }) => take(api.POST("/api/v1/port-passes", { signal, body: { address } })), retry: false, gcTime: 0 });
  const go = pass.data?.go;
  useEffect(() => {
    if (go) location.replace(go);
  }, [go]);
  return pass.error ? <ProblemNote error={pass.error} /> : <p className="quiet">Going on to {address}…</p>;
}
