import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

/** One's own secrets; their values are not to be had. */
export const mine = queryOptions({ queryKey: ["secrets", "mine"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/secrets", { signal, params: { query: page } })) });

/** What becomes of each in one's workspaces of a repository. */
export const explained = (repository: string) => queryOptions({ queryKey: ["secrets", "explained", repository], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/repositories/{repository}/secrets-explained", { signal, params: { path: { repository }, query: page } })) });

/** put sets one's own, or with `of` a repository's. */
export const put = (name: string, body: components["schemas"]["SecretValue"], of?: string) => (of ? take(api.PUT("/api/v1/repositories/{repository}/secrets/{name}", { params: { path: { repository: of, name } }, body })) : take(api.PUT("/api/v1/secrets/{name}", { params: { path: { name } }, body })));

export const remove = (name: string, of?: string) => (of ? take(api.DELETE("/api/v1/repositories/{repository}/secrets/{name}", { params: { path: { repository: of, name } } })) : take(api.DELETE("/api/v1/secrets/{name}", { params: { path: { name } } })));
