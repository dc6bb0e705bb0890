import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

type Cause = components["schemas"]["Attention"];

const at = (cause: string) => ({ params: { path: { cause } } });

/** What needs somebody, by cause: what holds up most people for longest first. */
export const attention = queryOptions({ queryKey: ["attention"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/attention", { signal, params: { query: page } })), refetchInterval: 10_000 });

/** One cause with all that is known of it; asked anew where others have it. */
export const cause = (of: Cause) => queryOptions({ queryKey: ["attention", of.id, of.newest, of.count], queryFn: ({ signal }) => take(api.GET("/api/v1/attention/{cause}", { signal, ...at(of.id) })) });

/** The workspaces that have it. */
export const whoHave = (of: Cause, all: boolean) => queryOptions({ queryKey: ["workspaces", "cause", of.id, of.count], enabled: of.of === "workspace", queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces", { signal, params: { query: { ...page, all, cause: of.id } } })) });

export const quiet = (id: string, seconds: number, reason: string) => take(api.PUT("/api/v1/attention/{cause}/quiet", { ...at(id), body: { seconds, reason } }));
export const again = (id: string) => take(api.DELETE("/api/v1/attention/{cause}/quiet", at(id)));
