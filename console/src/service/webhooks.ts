import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

export type Webhook = components["schemas"]["Webhook"];
export type Delivery = components["schemas"]["Delivery"];

const at = (id: string) => ({ params: { path: { webhook: id } } });

export const webhooks = queryOptions({ queryKey: ["webhooks"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/webhooks", { signal, params: { query: page } })), refetchInterval: 10_000 });

/** The newest attempts to tell one. */
export const deliveries = (id: string) => queryOptions({ queryKey: ["webhooks", "log", id], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/webhooks/{webhook}/deliveries", { signal, params: { path: { webhook: id }, query: page } })), refetchInterval: 5_000 });

export const add = (body: components["schemas"]["NewWebhook"]) => take(api.POST("/api/v1/webhooks", { body }));
export const change = (id: string, body: components["schemas"]["WebhookChange"]) => take(api.PATCH("/api/v1/webhooks/{webhook}", { ...at(id), body }));
export const replay = (id: string, from: number) => take(api.POST("/api/v1/webhooks/{webhook}/replay", { ...at(id), body: { from } }));
export const newKey = (id: string) => take(api.POST("/api/v1/webhooks/{webhook}/keys", at(id)));
export const test = (id: string) => take(api.POST("/api/v1/webhooks/{webhook}/test", at(id)));
export const drop = (id: string) => take(api.DELETE("/api/v1/webhooks/{webhook}", at(id)));
