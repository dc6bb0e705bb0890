import { queryOptions } from "@tanstack/react-query";
import { Problem, api, take } from "../api/client";
import type { components } from "../api/schema";

const again = 5_000;

/** Who is signed in. A service that does not answer is asked again; one that knows nobody is not. */
export const me = queryOptions({
  queryKey: ["me"],
  queryFn: ({ signal }) => take(api.GET("/api/v1/me", { signal })),
  refetchInterval: (q) => (q.state.data || (q.state.error instanceof Problem && q.state.error.status === 401) ? false : again),
});

export const health = queryOptions({ queryKey: ["health"], queryFn: ({ signal }) => take(api.GET("/api/v1/health", { signal })), refetchInterval: 30_000 });

export const signIn = (body: { name: string; password: string }) => take(api.POST("/api/v1/sign-in", { params: { query: { door: "console" } }, body }));

/** How people sign in here. */
export const doors = queryOptions({ queryKey: ["doors"], staleTime: 60_000, queryFn: ({ signal }) => take(api.GET("/api/v1/sign-in", { signal })) });

/** Which program waits with a code to be let in as whoever looks. */
export const deviceRequest = (code: string) => queryOptions({ queryKey: ["device", code], retry: false, enabled: code !== "", queryFn: ({ signal }) => take(api.GET("/api/v1/device-requests/{code}", { signal, params: { path: { code } } })) });
export const answerDevice = (code: string, allow: boolean) => take(api.POST("/api/v1/device-requests/{code}/answer", { params: { path: { code } }, body: { allow } }));

/** Lets the command line in that waits on this machine; where the browser goes then. */
export const letIn = (body: { code_challenge: string; redirect_uri: string; state: string }) => take(api.POST("/api/v1/oauth/codes", { body }));

/** What of one's own comes into each of one's workspaces. */
export const profile = queryOptions({ queryKey: ["me", "profile"], queryFn: ({ signal }) => take(api.GET("/api/v1/me/profile", { signal })) });
/** What one usually wants: in git, of terminals, of launches. */
export const usual = queryOptions({ queryKey: ["me", "usual"], queryFn: ({ signal }) => take(api.GET("/api/v1/me/usual", { signal })) });
export const putUsual = (body: components["schemas"]["PutUsual"]) => take(api.PUT("/api/v1/me/usual", { body }));

/** What of one's home folder goes along from workspace to workspace. */
export const luggage = queryOptions({ queryKey: ["me", "luggage"], queryFn: ({ signal }) => take(api.GET("/api/v1/me/luggage", { signal })) });
export const putLuggage = (paths: string[]) => take(api.PUT("/api/v1/me/luggage", { body: { paths } }));

/** The key that one signs in to git hosts with by SSH; null where there is none. */
export const gitKey = queryOptions({
  queryKey: ["me", "git-key"],
  queryFn: ({ signal }) =>
    take(api.GET("/api/v1/me/git-key", { signal })).catch((e: unknown) => {
      if (e instanceof Problem && e.status === 404) {
        return null;
      }
      throw e;
    }),
});
export const putGitKey = (body: components["schemas"]["PutGitKey"]) => take(api.PUT("/api/v1/me/git-key", { body }));
export const dropGitKey = () => take(api.DELETE("/api/v1/me/git-key"));

export const putProfile = (body: components["schemas"]["PutProfile"]) => take(api.PUT("/api/v1/me/profile", { body }));

export const signOut = () => take(api.POST("/api/v1/sign-out"));

const entry = () => document.querySelector<HTMLScriptElement>("script[type=module][src]")?.getAttribute("src") ?? "";

/** renewed tells whether another release of the console is served than the one that runs. */
export async function renewed(): Promise<boolean> {
  const answer = await fetch("/", { cache: "no-store" }).catch(() => undefined);
  return Boolean(answer?.ok) && !((await answer?.text()) ?? "").includes(entry());
}
