import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

type Schemas = components["schemas"];

/** What one is signed in with, and one's tokens. */
export const tokens = queryOptions({ queryKey: ["tokens"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/tokens", { signal, params: { query: page } })) });

/** The tokens of a program. */
export const tokensOf = (person: string) => queryOptions({ queryKey: ["tokens", person], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/people/{person}/tokens", { signal, params: { path: { person }, query: page } })) });

/** makeToken makes one for oneself, or for a program. */
export const makeToken = (body: Schemas["NewToken"], of?: string) => take(of ? api.POST("/api/v1/people/{person}/tokens", { params: { path: { person: of } }, body }) : api.POST("/api/v1/tokens", { body }));
export const endToken = (id: string) => take(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } }));
export const endTokenOf = (person: string, id: string) => take(api.DELETE("/api/v1/people/{person}/tokens/{id}", { params: { path: { person, id } } }));

export const changePassword = (before: string, now: string) => take(api.PUT("/api/v1/me/password", { body: { old: before, new: now } }));

/** Where the door of SSH is: it stays the same while the service runs. */
export const door = queryOptions({ queryKey: ["ssh"], staleTime: Infinity, queryFn: ({ signal }) => take(api.GET("/api/v1/ssh", { signal })) });
export const keys = queryOptions({ queryKey: ["tokens", "keys"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/ssh/keys", { signal, params: { query: page } })) });
export const addKey = (body: Schemas["NewSSHKey"]) => take(api.POST("/api/v1/ssh/keys", { body }));
export const removeKey = (id: string) => take(api.DELETE("/api/v1/ssh/keys/{id}", { params: { path: { id } } }));

/** What one signs in to git hosts with; the secret itself is never shown. */
export const credentials = queryOptions({ queryKey: ["credentials"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/git-credentials", { signal, params: { query: page } })) });
export const dropCredential = (host: string) => take(api.DELETE("/api/v1/git-credentials/{host}", { params: { path: { host } } }));
