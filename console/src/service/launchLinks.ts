import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

type Schemas = components["schemas"];
export type LaunchLink = Schemas["LaunchLink"];

const at = (link: string) => ({ path: { link } });

export const launchLinks = queryOptions({ queryKey: ["launch-links"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/launch-links", { signal, params: { query: page } })) });
export const uses = (link: string) => queryOptions({ queryKey: ["launch-links", link, "uses"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/launch-links/{link}/uses", { signal, params: { ...at(link), query: page } })) });
export const make = (body: Schemas["NewLaunchLink"]) => take(api.POST("/api/v1/launch-links", { body }));
export const change = (link: string, body: Schemas["LaunchLinkChange"]) => take(api.PATCH("/api/v1/launch-links/{link}", { params: at(link), body }));
export const drop = (link: string) => take(api.DELETE("/api/v1/launch-links/{link}", { params: at(link) }));

/** What a link comes to for whoever looks; what a secret that is given changes is read again. */
export const offer = (link: string) => queryOptions({ queryKey: ["preflight", "link", link], retry: false, queryFn: ({ signal }) => take(api.GET("/api/v1/launch-links/{link}/offer", { signal, params: at(link) })) });
export const goBy = (link: string) => take(api.POST("/api/v1/launch-links/{link}/use", { params: at(link) }));

/** Its badge and its QR code. */
export const badge = (link: string) => `${location.origin}/api/v1/launch-links/${link}/badge.svg`;
export const qr = (link: string) => `/api/v1/launch-links/${link}/qr.png`;
