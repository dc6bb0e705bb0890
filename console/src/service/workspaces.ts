import { queryOptions } from "@tanstack/react-query";
import { api, take, whole, type Port } from "../api/client";

/** One workspace, by its name and its owner's. */
export const workspace = (name: string) =>
  queryOptions({
    queryKey: ["workspaces", "one", name],
    queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}", { signal, params: { path: { workspace: name } } })),
    refetchInterval: 30_000, // the newest sign of work
  });

/** The launch sheet of a number; 0 is the newest. */
export const sheet = (name: string, number = 0) =>
  queryOptions({
    queryKey: ["workspaces", "sheet", name, number],
    queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}/sheets/{sheet}", { signal, params: { path: { workspace: name, sheet: number } } })),
  });

/** The ports of a workspace: what listens, and what its definition forwards. */
export const ports = (name: string) =>
  queryOptions({
    queryKey: ["workspaces", "ports", name],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/ports", { signal, params: { path: { workspace: name }, query: page } })),
  });

export const start = (name: string) => take(api.POST("/api/v1/workspaces/{workspace}/start", { params: { path: { workspace: name } } }));

/** The way into a port for a frame of ours; it is gone once, within a minute. */
export const framePass = (address: string) => take(api.POST("/api/v1/port-passes", { body: { address, framed: true } }));

export const visitedBy = (name: string, port: number, visitors: Port["visitors"]) => take(api.PUT("/api/v1/workspaces/{workspace}/ports/{port}", { params: { path: { workspace: name, port } }, body: { visitors } }));

/** The list of workspaces: one's own, or everybody's whom one may see. */
export const workspaces = (all: boolean) =>
  queryOptions({
    queryKey: ["workspaces", "list", all],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces", { signal, params: { query: { ...page, all } } })),
    refetchInterval: 60_000, // what it cost so far
  });

/** What of somebody runs, or is about to. */
export const runsOf = (owner: string) =>
  queryOptions({
    queryKey: ["workspaces", "running", owner],
    queryFn: async ({ signal }) => (await whole((page) => api.GET("/api/v1/workspaces", { signal, params: { query: { ...page, all: true, owner } } }))).filter((w) => ["waiting", "preparing", "starting", "ready"].includes(w.phase)),
  });

export const stop = (name: string) => take(api.POST("/api/v1/workspaces/{workspace}/stop", { params: { path: { workspace: name } } }));
export const hold = (name: string, seconds: number, why: string) => take(api.PUT("/api/v1/workspaces/{workspace}/hold", { params: { path: { workspace: name } }, body: { seconds, why } }));

const at = (name: string) => ({ params: { path: { workspace: name } } });

/** One's own workspaces of a branch. */
export const mineOf = (repository: string, branch: string) => queryOptions({ queryKey: ["workspaces", "of", repository, branch], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces", { signal, params: { query: { ...page, repository } } })) });

/** The launch sheets of a workspace, the newest first. */
export const sheets = (name: string) => queryOptions({ queryKey: ["workspaces", "sheets", name], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/sheets", { signal, params: { path: { workspace: name }, query: page } })) });

/** The services beside it. */
export const services = (name: string) => queryOptions({ queryKey: ["workspaces", "services", name], refetchInterval: 5_000, queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/services", { signal, params: { path: { workspace: name }, query: page } })) });

export const letRest = (name: string) => take(api.DELETE("/api/v1/workspaces/{workspace}/hold", at(name)));
export const rebuild = (name: string) => take(api.POST("/api/v1/workspaces/{workspace}/rebuild", { ...at(name), body: {} }));
export const letGo = (name: string) => take(api.POST("/api/v1/workspaces/{workspace}/let-go", at(name)));
export const remove = (name: string, discard: boolean) => take(api.DELETE("/api/v1/workspaces/{workspace}", { params: { path: { workspace: name }, query: discard ? { discard } : {} } }));
export const heed = (name: string) => take(api.DELETE("/api/v1/workspaces/{workspace}/notice", at(name)));

/** allowPush lets what is in it push for a time, or says that it may not. */
export const allowPush = (name: string, may: boolean) => (may ? take(api.PUT("/api/v1/workspaces/{workspace}/push", at(name))) : take(api.DELETE("/api/v1/workspaces/{workspace}/push", at(name))));

/** The way into a port for a tab. */
export const visitPass = (address: string) => queryOptions({ queryKey: ["visit", address], retry: false, gcTime: 0, queryFn: ({ signal }) => take(api.POST("/api/v1/port-passes", { signal, body: { address } })) });
