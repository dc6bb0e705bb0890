import { infiniteQueryOptions } from "@tanstack/react-query";
import { api, take } from "../api/client";

export interface JournalQuery {
  person?: string;
  kind?: string;
  workspace?: string;
  repository?: string;
  from?: string;
  to?: string;
}

const part = 200;

/** The entries that fit, the newest first, part by part. */
export const journal = (of: JournalQuery) =>
  infiniteQueryOptions({
    queryKey: ["journal", of],
    initialPageParam: undefined as number | undefined,
    queryFn: ({ signal, pageParam: before }) => take(api.GET("/api/v1/journal", { signal, params: { query: { ...of, limit: part, ...(before ? { before } : { newest: true }) } } })),
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
    placeholderData: (old) => old,
  });
