import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

/** The look links of a workspace: one port each, for anybody who has the link. */
export const lookLinks = (workspace: string) => queryOptions({ queryKey: ["look-links", workspace], refetchInterval: 30_000, queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/look-links", { signal, params: { path: { workspace }, query: page } })) });

export const make = (workspace: string, body: components["schemas"]["NewLookLink"]) => take(api.POST("/api/v1/workspaces/{workspace}/look-links", { params: { path: { workspace } }, body }));
export const end = (workspace: string, link: string) => take(api.DELETE("/api/v1/workspaces/{workspace}/look-links/{link}", { params: { path: { workspace, link } } }));
