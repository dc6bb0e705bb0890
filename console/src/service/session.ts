import { queryOptions } from "@tanstack/react-query";
import { Problem, api, take } from "../api/client";

const again = 5_000;

/** Who is signed in. A service that does not answer is asked again; one that knows nobody is not. */
export const me = queryOptions({
  queryKey: ["me"],
  queryFn: ({ signal }) => take(api.GET("/api/v1/me", { signal })),
  refetchInterval: (q) => (q.state.data || (q.state.error instanceof Problem && q.state.error.status === 401) ? false : again),
});

export const health = queryOptions({ queryKey: ["health"], queryFn: ({ signal }) => take(api.GET("/api/v1/health", { signal })), refetchInterval: 30_000 });

export const signIn = (body: { name: string; password: string }) => take(api.POST("/api/v1/sign-in", { params: { query: { door: "console" } }, body }));

export const signOut = () => take(api.POST("/api/v1/sign-out"));

const entry = () => document.querySelector<HTMLScriptElement>("script[type=module][src]")?.getAttribute("src") ?? "";

/** renewed tells whether another release of the console is served than the one that runs. */
export async function renewed(): Promise<boolean> {
  const answer = await fetch("/", { cache: "no-store" }).catch(() => undefined);
  return Boolean(answer?.ok) && !((await answer?.text()) ?? "").includes(entry());
}
