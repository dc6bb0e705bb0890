import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

export type Repository = components["schemas"]["Repository"];

const at = (repository: string) => ({ params: { path: { repository } } });

export const repositories = queryOptions({ queryKey: ["repositories"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/repositories", { signal, params: { query: page } })) });

export const repository = (name: string) => queryOptions({ queryKey: ["repositories", name], queryFn: ({ signal }) => take(api.GET("/api/v1/repositories/{repository}", { signal, ...at(name) })) });

/** Its branches, those with the newest commits first. */
export const branches = (name: string) => queryOptions({ queryKey: ["branches", name], retry: false, queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/repositories/{repository}/branches", { signal, params: { path: { repository: name }, query: page } })) });

/** What its definition at a branch's head comes to, and what is wrong with it; each look is at the head as it is. */
export const definition = (name: string, branch?: string, which?: string) =>
  queryOptions({
    queryKey: ["definition", name, branch ?? "", which ?? ""],
    retry: false,
    gcTime: 0,
    queryFn: ({ signal }) => take(api.GET("/api/v1/repositories/{repository}/definition", { signal, params: { path: { repository: name }, query: { branch: branch || undefined, name: which || undefined } } })),
  });

export const add = (body: components["schemas"]["NewRepository"]) => take(api.POST("/api/v1/repositories", { body }));
export const change = (name: string, body: components["schemas"]["RepositoryChange"]) => take(api.PATCH("/api/v1/repositories/{repository}", { ...at(name), body }));
export const remove = (name: string) => take(api.DELETE("/api/v1/repositories/{repository}", at(name)));
export const newPushKey = (name: string) => take(api.POST("/api/v1/repositories/{repository}/push-keys", at(name)));
export const putCredential = (name: string, body: components["schemas"]["GitCredential"]) => take(api.PUT("/api/v1/repositories/{repository}/credential", { ...at(name), body }));
export const makeDeployKey = (name: string) => take(api.POST("/api/v1/repositories/{repository}/deploy-keys", at(name)));
export const dropCredential = (name: string) => take(api.DELETE("/api/v1/repositories/{repository}/credential", at(name)));

/** What differs on a branch from the repository's own definition, and what that makes due. */
export const definitionChanges = (name: string, branch: string, which?: string) =>
  queryOptions({
    queryKey: ["definition-changes", name, branch, which ?? ""],
    retry: false,
    gcTime: 0,
    queryFn: ({ signal }) => take(api.GET("/api/v1/repositories/{repository}/definition/changes", { signal, params: { path: { repository: name }, query: { branch, name: which || undefined } } })),
  });
