import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

const pace = 700;

export const operations = queryOptions({
  queryKey: ["operations"],
  queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/operations", { signal, params: { query: page } })),
  refetchInterval: (q) => (q.state.data?.some((o) => !o.ended_at) ? 2_000 : 30_000),
});

export const operation = (id: string) => queryOptions({ queryKey: ["operations", id], queryFn: ({ signal }) => take(api.GET("/api/v1/operations/{operation}", { signal, params: { path: { operation: id } } })), refetchInterval: (q) => (q.state.data?.ended_at ? false : pace) });

/** What came of it with each workspace; asked anew where its counts are others. */
export const outcomes = (id: string, counts?: string) =>
  queryOptions({
    queryKey: ["operations", id, "outcomes", counts],
    enabled: counts !== undefined,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/operations/{operation}/outcomes", { signal, params: { path: { operation: id }, query: { ...page, sort: "number" } } })),
  });

export const askMany = (body: components["schemas"]["NewOperation"]) => take(api.POST("/api/v1/operations", { body }));
export const cancel = (id: string) => take(api.POST("/api/v1/operations/{operation}/cancel", { params: { path: { operation: id } } }));
