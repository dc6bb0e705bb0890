import { queryOptions } from "@tanstack/react-query";
import { api, take } from "../api/client";
import type { operations } from "../api/schema";

export type CostQuery = NonNullable<operations["report-cost"]["parameters"]["query"]>;
export type Only = Pick<CostQuery, "team" | "person" | "repository" | "workspace">;

/** What was used, and what it cost. */
export const cost = (query: CostQuery) =>
  queryOptions({
    queryKey: ["cost", query],
    queryFn: ({ signal }) => take(api.GET("/api/v1/cost", { signal, params: { query } })),
    placeholderData: (old) => old,
    refetchInterval: 60_000,
  });
