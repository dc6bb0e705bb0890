import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

export type Provider = components["schemas"]["Provider"];

const at = (provider: string) => ({ path: { provider } });

export const providers = queryOptions({ queryKey: ["providers"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/providers", { signal, params: { query: page } })) });
export const put = (provider: string, body: components["schemas"]["PutProvider"]) => take(api.PUT("/api/v1/providers/{provider}", { params: at(provider), body }));
export const drop = (provider: string) => take(api.DELETE("/api/v1/providers/{provider}", { params: at(provider) }));
