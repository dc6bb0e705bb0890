import { queryOptions, useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { api, take, whole } from "../api/client";

type Everything = Record<string, unknown>;

/** What is kept for whoever is signed in, whichever browser they are at: by its name. */
export const kept = queryOptions({
  queryKey: ["kept"],
  staleTime: Infinity, // only we change it
  queryFn: async ({ signal }): Promise<Everything> => Object.fromEntries((await whole((page) => api.GET("/api/v1/kept", { signal, params: { query: page } }))).map((k) => [k.name, k.value])),
});

const pause = 600;
const unsaid = new Map<string, ReturnType<typeof setTimeout>>();

/** keep puts something under a name: here at once, at the service a moment after the last change. */
export function keep(queries: QueryClient, name: string, value: unknown) {
  queries.setQueryData<Everything>(kept.queryKey, (old) => ({ ...old, [name]: value }));
  clearTimeout(unsaid.get(name));
  unsaid.set(
    name,
    setTimeout(() => {
      unsaid.delete(name);
      // What one likes is no reason to trouble anybody: it holds for this page then.
      void take(api.PUT("/api/v1/kept/{name}", { params: { path: { name } }, body: { value } })).catch(() => undefined);
    }, pause),
  );
}

/** useKept is what is kept under a name, or what is usual; and what puts it. */
export function useKept<T>(name: string, usual: T): [T, (value: T) => void] {
  const queries = useQueryClient();
  const all = useQuery(kept).data;
  const put = useCallback((value: T) => keep(queries, name, value), [queries, name]);
  return [(all?.[name] as T | undefined) ?? usual, put];
}
