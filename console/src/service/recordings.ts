import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";

const at = (recording: string) => ({ params: { path: { recording } } });

/** The recordings that one may see. */
export const recordings = queryOptions({ queryKey: ["recordings"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/recordings", { signal, params: { query: page } })), refetchInterval: 15_000 });
export const recording = (id: string) => queryOptions({ queryKey: ["recordings", id], queryFn: ({ signal }) => take(api.GET("/api/v1/recordings/{recording}", { signal, ...at(id) })) });

/** What it holds, in asciicast v2. */
export const contentOf = async (id: string, signal: AbortSignal) => (await take(api.GET("/api/v1/recordings/{recording}/content", { signal, ...at(id), parseAs: "text" }))) ?? "";

export const end = (id: string) => take(api.POST("/api/v1/recordings/{recording}/end", at(id)));
export const remove = (id: string) => take(api.DELETE("/api/v1/recordings/{recording}", at(id)));
