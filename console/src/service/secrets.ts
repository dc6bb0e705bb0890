import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

/** Whose secrets are meant: one's own, or those of a repository, a team or the house. */
export type Whose = { level: "person" | "house" } | { level: "repository" | "team"; name: string };

export const own: Whose = { level: "person" };

/** Secrets by name; their values are not to be had. */
export const secrets = (of: Whose) =>
  queryOptions({
    queryKey: ["secrets", "of", of],
    queryFn: ({ signal }) =>
      whole((page) => {
        const query = { signal, params: { query: page } };
        switch (of.level) {
          case "person":
            return api.GET("/api/v1/secrets", query);
          case "house":
            return api.GET("/api/v1/house/secrets", query);
          case "team":
            return api.GET("/api/v1/teams/{team}/secrets", { signal, params: { path: { team: of.name }, query: page } });
          case "repository":
            return api.GET("/api/v1/repositories/{repository}/secrets", { signal, params: { path: { repository: of.name }, query: page } });
        }
      }),
  });

/** What becomes of each in one's workspaces of a repository; of one name, where it is given. */
export const explained = (repository: string, name?: string) =>
  queryOptions({
    queryKey: ["secrets", "explained", repository, name],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/repositories/{repository}/secrets-explained", { signal, params: { path: { repository }, query: { ...page, name } } })),
  });

/** renew begins anew what a workspace's definition has left running at its start. */
export const renew = (workspace: string) => take(api.POST("/api/v1/workspaces/{workspace}/renewals", { params: { path: { workspace } } }));

/** What becomes of each in a workspace of one's own, and what there holds an older one. */
export const explainedIn = (workspace: string) =>
  queryOptions({
    queryKey: ["secrets", "in", workspace],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/secrets-explained", { signal, params: { path: { workspace }, query: page } })),
  });

export const put = (of: Whose, name: string, body: components["schemas"]["SecretValue"]) => {
  switch (of.level) {
    case "person":
      return take(api.PUT("/api/v1/secrets/{name}", { params: { path: { name } }, body }));
    case "house":
      return take(api.PUT("/api/v1/house/secrets/{name}", { params: { path: { name } }, body }));
    case "team":
      return take(api.PUT("/api/v1/teams/{team}/secrets/{name}", { params: { path: { team: of.name, name } }, body }));
    case "repository":
      return take(api.PUT("/api/v1/repositories/{repository}/secrets/{name}", { params: { path: { repository: of.name, name } }, body }));
  }
};

export const remove = (of: Whose, name: string) => {
  switch (of.level) {
    case "person":
      return take(api.DELETE("/api/v1/secrets/{name}", { params: { path: { name } } }));
    case "house":
      return take(api.DELETE("/api/v1/house/secrets/{name}", { params: { path: { name } } }));
    case "team":
      return take(api.DELETE("/api/v1/teams/{team}/secrets/{name}", { params: { path: { team: of.name, name } } }));
    case "repository":
      return take(api.DELETE("/api/v1/repositories/{repository}/secrets/{name}", { params: { path: { repository: of.name, name } } }));
  }
};
