import { queryOptions } from "@tanstack/react-query";
import { api, take } from "../api/client";
import type { components } from "../api/schema";

export type BenchOf = components["schemas"]["Bench"];
export type BenchLanguage = components["schemas"]["BenchLanguage"];
export type Debugging = components["schemas"]["Debugging"];

/** What serves languages and debugs in a workspace, and how its editor writes. */
export const bench = (workspace: string) => queryOptions({ queryKey: ["bench", workspace], staleTime: 5 * 60_000, queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}/bench", { signal, params: { path: { workspace } } })) });

/** A Problem with which a program that was spoken with ended. */
export interface Over {
  detail: string;
  next?: string;
  status?: number;
}

/**
 * Spoken is a connection to a program in a workspace that takes and gives messages of
 * JSON. It ends once, with why where that is known.
 */
export class Spoken {
  private readonly socket: WebSocket;
  private readonly waiting: string[] = [];
  private over: Over | undefined;
  private ended = false;

  constructor(workspace: string, path: "languages" | "debuggers", of: string, heard: (message: string) => void, end: (why: Over | undefined) => void, query = "") {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    this.socket = new WebSocket(`${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(workspace)}/${path}/${encodeURIComponent(of)}${query}`);
    this.socket.binaryType = "arraybuffer";
    this.socket.onopen = () => {
      for (const m of this.waiting.splice(0)) this.socket.send(m);
    };
    this.socket.onmessage = (e: MessageEvent<string | ArrayBuffer>) => {
      if (this.ended) return;
      if (typeof e.data === "string") heard(e.data);
      else this.over = JSON.parse(new TextDecoder().decode(new Uint8Array(e.data).subarray(1))) as Over;
    };
    this.socket.onclose = () => {
      if (this.ended) return;
      this.ended = true;
      end(this.over);
    };
  }

  say(message: string) {
    if (this.socket.readyState === WebSocket.CONNECTING) this.waiting.push(message);
    else if (this.socket.readyState === WebSocket.OPEN) this.socket.send(message);
  }

  close() {
    this.ended = true;
    this.socket.close();
  }
}
