import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import * as say from "words/service/terminals";

const of = (workspace: string) => ({ path: { workspace } });

/** The terminals that are open in a workspace, with who is at them. */
export const terminals = (workspace: string) =>
  queryOptions({
    queryKey: ["terminals", workspace],
    queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/terminals", { signal, params: { ...of(workspace), query: page } })),
    refetchInterval: 10_000,
  });

/** Who may look at terminals of a workspace. */
export const looks = (workspace: string) => queryOptions({ queryKey: ["looks", workspace], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/workspaces/{workspace}/looks", { signal, params: { ...of(workspace), query: page } })) });

export const endLook = (workspace: string, l: { terminal: string; person: string }) => take(api.DELETE("/api/v1/workspaces/{workspace}/terminals/{label}/looks/{person}", { params: { path: { workspace, label: l.terminal, person: l.person } } }));

export const record = (workspace: string, terminal: string) => take(api.POST("/api/v1/recordings", { body: { workspace, terminal } }));

/** freeLabel is a label that none of them has: main, then main-2 and on. */
export function freeLabel(taken: string[]): string {
  for (let n = 1; ; n++) {
    const label = n === 1 ? "main" : `main-${n}`;
    if (!taken.includes(label)) return label;
  }
}

/** runInTerminal runs a command in a terminal of its own, which lives on by itself; gives its label. */
export function runInTerminal(workspace: string, argv: string[], folder: string, env: Record<string, string>): Promise<string> {
  const label = `debug-${Array.from(crypto.getRandomValues(new Uint8Array(3)), (b) => b.toString(16).padStart(2, "0")).join("")}`;
  return new Promise((yes, no) => {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    const socket = new WebSocket(`${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(workspace)}/session`);
    socket.binaryType = "arraybuffer";
    socket.onopen = () => socket.send(JSON.stringify({ argv, terminal: label, tty: true, folder, env, columns: 100, rows: 30, typist: label }));
    socket.onmessage = (e: MessageEvent<ArrayBuffer>) => {
      const frame = new Uint8Array(e.data);
      if (frame[0] === "p".charCodeAt(0)) no(new Error(String((JSON.parse(new TextDecoder().decode(frame.subarray(1))) as { detail?: string }).detail)));
      else yes(label);
      socket.close();
    };
    socket.onclose = () => no(new Error(say.noTerminalCouldBe()));
  });
}

/** The terminals of others that one may look at now. */
export const looksOfOthers = queryOptions({ queryKey: ["looks", "others"], refetchInterval: 60_000, queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/me/looks", { signal, params: { query: page } })) });

export const letLook = (workspace: string, label: string, person: string, body: { writes?: boolean; seconds?: number }) => take(api.PUT("/api/v1/workspaces/{workspace}/terminals/{label}/looks/{person}", { params: { path: { workspace, label, person } }, body }));
