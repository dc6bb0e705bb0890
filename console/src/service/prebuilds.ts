import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

const at = (repository: string) => ({ params: { path: { repository } } });

/** What is prepared ahead, and when; of everything, or of one repository. */
export const plans = (repository?: string) => queryOptions({ queryKey: ["prebuilds", "plans", repository ?? ""], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/prebuild-plans", { signal, params: { query: { ...page, repository } } })) });

export const putPlan = (repository: string, body: components["schemas"]["PutPlan"]) => take(api.PUT("/api/v1/repositories/{repository}/prebuild-plan", { ...at(repository), body }));
export const runPlan = (repository: string, branch: string) => take(api.POST("/api/v1/repositories/{repository}/prebuild-runs", { ...at(repository), body: { branch } }));
export const dropPlan = (repository: string, branch: string) => take(api.DELETE("/api/v1/repositories/{repository}/prebuild-plan", { params: { path: { repository }, query: { branch } } }));

/** The launch sheet of a run. */
export const runSheet = (run: string) => queryOptions({ queryKey: ["prebuilds", "sheet", run], queryFn: ({ signal }) => take(api.GET("/api/v1/prebuild-runs/{run}/sheet", { signal, params: { path: { run } } })) });
