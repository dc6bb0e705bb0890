import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

export type Changes = components["schemas"]["Changes"];
export type ChangedFile = components["schemas"]["ChangedFile"];
export type Hunk = components["schemas"]["Hunk"];
export type Choice = components["schemas"]["Choice"];

/** How the clones of a workspace stand. */
export const changes = (workspace: string) =>
  queryOptions({
    queryKey: ["changes", workspace],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/changes", { signal, params: { path: { workspace }, query: page } })),
  });

export const difference = (workspace: string, of: { folder: string; path: string; staged: boolean }) =>
  queryOptions({
    queryKey: ["changes", workspace, "difference", of.folder, of.path, of.staged],
    queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}/changes/difference", { signal, params: { path: { workspace }, query: { folder: of.folder, path: of.path, staged: of.staged } } })),
  });

export const branches = (workspace: string, folder: string) =>
  queryOptions({
    queryKey: ["changes", workspace, "branches", folder],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/changes/branches", { signal, params: { path: { workspace }, query: { ...page, folder } } })),
  });

const of = (workspace: string) => ({ params: { path: { workspace } } });

/** choose stages, unstages or discards. */
export const choose = (workspace: string, verb: "stage" | "unstage" | "discard", body: Choice) => {
  const ask = { ...of(workspace), body };
  if (verb === "stage") return take(api.PUT("/api/v1/workspaces/{workspace}/changes/stage", ask));
  if (verb === "unstage") return take(api.PUT("/api/v1/workspaces/{workspace}/changes/unstage", ask));
  return take(api.PUT("/api/v1/workspaces/{workspace}/changes/discard", ask));
};

export const commit = (workspace: string, body: components["schemas"]["NewCommit"]) => take(api.PUT("/api/v1/workspaces/{workspace}/changes/commit", { ...of(workspace), body }));
export const push = (workspace: string, folder: string) => take(api.PUT("/api/v1/workspaces/{workspace}/changes/push", { ...of(workspace), body: { folder } }));
export const fetchAll = (workspace: string, folder: string) => take(api.PUT("/api/v1/workspaces/{workspace}/changes/fetch", { ...of(workspace), body: { folder } }));
export const switchTo = (workspace: string, body: components["schemas"]["SwitchBranch"]) => take(api.PUT("/api/v1/workspaces/{workspace}/changes/branch", { ...of(workspace), body }));

/** What exists only in the workspace. */
export const onlyHere = (workspace: string) => queryOptions({ queryKey: ["changes", workspace, "only here"], queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}/work", { signal, ...of(workspace) })) });
