import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";

/** The versions of the house rules, the newest first. */
export const versions = queryOptions({ queryKey: ["rules"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/rules", { signal, params: { query: page } })) });

/** One version with its document; 0 is the one in force. */
export const version = (n: number) => queryOptions({ queryKey: ["rules", "version", n], staleTime: n > 0 ? Infinity : 60_000, queryFn: ({ signal }) => take(api.GET("/api/v1/rules/{version}", { signal, params: { path: { version: n } } })) });

/** What a document would change, and what is wrong with it. */
export const check = (document: string) => queryOptions({ queryKey: ["rules", "check", document], queryFn: ({ signal }) => take(api.POST("/api/v1/rules/check", { signal, body: { document } })) });

/** put puts a document in force, if the version is still in force that it was made from. */
export const put = (document: string, reason: string, base: number, meant: boolean) => take(api.PUT("/api/v1/rules", { params: { header: { "If-Match": `"v${base}"` } }, body: { document, reason, meant } }));

/** What of the installation is open, and how each is closed. */
export const openings = (inForce?: number) => queryOptions({ queryKey: ["openings", inForce], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/openings", { signal, params: { query: page } })) });
