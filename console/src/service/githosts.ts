import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

type Schemas = components["schemas"];
export type GitHost = Schemas["GitHost"];

const at = (host: string) => ({ params: { path: { host } } });

/** The git hosts that people connect with. */
export const gitHosts = queryOptions({ queryKey: ["git-hosts"], staleTime: 60_000, queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/git-hosts", { signal, params: { query: page } })) });
export const putGitHost = (host: string, body: Schemas["PutGitHost"]) => take(api.PUT("/api/v1/git-hosts/{host}", { ...at(host), body }));
export const dropGitHost = (host: string) => take(api.DELETE("/api/v1/git-hosts/{host}", at(host)));

/** connect leads the browser to a git host, which leads it back. */
export const connect = async (host: string) => {
  const { to } = await take(api.POST("/api/v1/git-hosts/{host}/connections", at(host)));
  window.location.assign(to);
};

/** What a git host lets one read, where one is connected with it. */
export const hosted = (host: string) => queryOptions({ queryKey: ["git-hosts", host, "repositories"], staleTime: 60_000, retry: false, queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/git-hosts/{host}/repositories", { signal, params: { path: { host }, query: page } })) });
