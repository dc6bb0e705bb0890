import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";

/** Ready definitions for new projects. */
export const starters = queryOptions({ queryKey: ["starters"], retry: false, queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/starters", { signal, params: { query: page } })) });

/** fill gives one's files, with what was chosen in them. */
export const fill = (starter: string, options: Record<string, string>) => take(api.POST("/api/v1/starters/{starter}", { params: { path: { starter } }, body: { options } }));
