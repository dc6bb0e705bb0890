import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

export type Stray = components["schemas"]["Stray"];

/** What the yard has of workspaces that no record knows. */
export const quarantine = queryOptions({ queryKey: ["quarantine"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/quarantine", { signal, params: { query: page } })), staleTime: 60_000 });

const of = (stray: string) => ({ params: { path: { stray } } });
export const giveStray = (id: string, body: components["schemas"]["GiveStray"]) => take(api.POST("/api/v1/quarantine/{stray}/give", { ...of(id), body }));
export const keepStray = (id: string, reason: string) => take(api.PUT("/api/v1/quarantine/{stray}/kept", { ...of(id), body: { reason } }));
export const removeStray = (id: string) => take(api.DELETE("/api/v1/quarantine/{stray}", of(id)));
