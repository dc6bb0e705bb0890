import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

/** The containers in the yard that others started and that belong to nobody here. */
export const containers = queryOptions({ queryKey: ["containers"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/containers", { signal, params: { query: page } })) });

/** What one that is taken on may count for. */
export const sizes = queryOptions({ queryKey: ["containers", "sizes"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/container-sizes", { signal, params: { query: page } })) });

export const takeOn = (container: string, body: components["schemas"]["Adopt"]) => take(api.POST("/api/v1/containers/{container}/adopt", { params: { path: { container } }, body }));
