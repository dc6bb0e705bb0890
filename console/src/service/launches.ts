import { queryOptions, type QueryClient } from "@tanstack/react-query";
import { api, take } from "../api/client";
import type { components } from "../api/schema";
import { keep, kept } from "./kept";

export type Launch = components["schemas"]["Launch"];

/** What a launch would come to. */
export const preflight = (body: Launch) => queryOptions({ queryKey: ["preflight", JSON.stringify(body)], retry: false, queryFn: ({ signal }) => take(api.POST("/api/v1/preflight", { signal, body })) });

export const launch = (body: Launch) => take(api.POST("/api/v1/workspaces", { body }));

const lastMost = 3;
const name = "launches";

/** The choices of somebody's last launches, the newest first. */
export const lastLaunches = {
  ...kept,
  select: (all: Record<string, unknown>): Launch[] => (Array.isArray(all[name]) ? (all[name] as Launch[]) : []).filter((l) => typeof l?.repository === "string" && l.repository).slice(0, lastMost),
};

/** launched keeps a choice; its name is for one workspace alone, and is left out. */
export function launched(queries: QueryClient, of: Launch) {
  const body = { ...of };
  delete body.name;
  delete body.errand;
  const before = lastLaunches.select(queries.getQueryData(kept.queryKey) ?? {});
  keep(queries, name, [body, ...before.filter((l) => JSON.stringify(l) !== JSON.stringify(body))].slice(0, lastMost));
}
