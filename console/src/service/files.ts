import { queryOptions } from "@tanstack/react-query";
import { Problem, api, take } from "../api/client";
import type { components } from "../api/schema";
import * as say from "words/service/files";

export type File = components["schemas"]["File"];
export type FileChange = components["schemas"]["FileChange"];
export type Found = components["schemas"]["Found"];

/** How much of a file is opened to be written in; what is longer is read in slices. */
export const editedMost = 2 << 20;
export const sliceBytes = 256 << 10;

/** The first entries of a folder, and whether there are more. */
export const folderMost = 5_000;

export const folder = (workspace: string, path: string) =>
  queryOptions({
    queryKey: ["files", workspace, "folder", path],
    queryFn: async ({ signal }) => {
      const items: File[] = [];
      for (let after: string | undefined; ;) {
        const part = await take(api.GET("/api/v1/workspaces/{workspace}/files", { signal, params: { path: { workspace }, query: { path, limit: 1000, after } } }));
        items.push(...part.items);
        if (!part.next || items.length >= folderMost) return { items, more: Boolean(part.next) };
        after = part.next;
      }
    },
  });

export const entry = (workspace: string, path: string) => queryOptions({ queryKey: ["files", workspace, "entry", path], staleTime: 0, queryFn: ({ signal }) => take(api.GET("/api/v1/workspaces/{workspace}/files/entry", { signal, params: { path: { workspace }, query: { path } } })) });

const content = (workspace: string, path: string) => `/api/v1/workspaces/${encodeURIComponent(workspace)}/files/content?path=${encodeURIComponent(path)}`;
export const contentAddress = content;

/** problemOf is what an answer that is not ours says went wrong. */
async function problemOf(answer: Response): Promise<Problem> {
  const p = (await answer.json().catch(() => ({}))) as Partial<Problem>;
  return new Problem(answer.status, p.detail ?? answer.statusText, p.next);
}

async function asked(address: string, init?: RequestInit): Promise<Response> {
  let answer;
  try {
    answer = await fetch(address, init);
  } catch (e) {
    if (init?.signal?.aborted) throw e;
    throw new Problem(0, say.theServiceDoesNot(), say.whatYouWroteIs());
  }
  if (!answer.ok) throw await problemOf(answer);
  return answer;
}

const tagOf = (answer: Response) => (answer.headers.get("ETag") ?? "").replace(/^"|"$/g, "");

/** read reads a file, or a part of it, with the tag of what was read. */
export async function read(workspace: string, path: string, part?: { from: number; to: number }, signal?: AbortSignal): Promise<{ bytes: Uint8Array; tag: string }> {
  const answer = await asked(content(workspace, path), { signal, headers: part ? { Range: `bytes=${part.from}-${part.to - 1}` } : {} });
  return { bytes: new Uint8Array(await answer.arrayBuffer()), tag: tagOf(answer) };
}

/** write writes a file where it still is the one of this tag, or where there is none. A Problem of 412 tells that it is another. */
export async function write(workspace: string, path: string, text: string, tag: string | undefined): Promise<File> {
  const answer = await asked(content(workspace, path), {
    method: "PUT",
    headers: { "Content-Type": "application/octet-stream", ...(tag === undefined ? { "If-None-Match": "*" } : { "If-Match": `"${tag}"` }) },
    body: text,
  });
  return (await answer.json()) as File;
}

export const upload = async (workspace: string, path: string, body: Blob) => void (await asked(content(workspace, path), { method: "PUT", headers: { "Content-Type": "application/octet-stream", "If-None-Match": "*" }, body }));

const at = (workspace: string, path: string) => ({ params: { path: { workspace }, query: { path } } });
export const makeFolder = (workspace: string, path: string) => take(api.PUT("/api/v1/workspaces/{workspace}/files/folder", at(workspace, path)));
export const move = (workspace: string, path: string, to: string) => take(api.PUT("/api/v1/workspaces/{workspace}/files/place", { params: { path: { workspace }, query: { path, to } } }));
export const remove = (workspace: string, path: string, all: boolean) => take(api.DELETE("/api/v1/workspaces/{workspace}/files/entry", { params: { path: { workspace }, query: { path, all } } }));

/** lines are those of an answer that tells one thing a line, as they come. */
async function* lines<T>(answer: Response): AsyncGenerator<T> {
  const reader = answer.body!.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  try {
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      const all = (rest + value).split("\n");
      rest = all.pop() ?? "";
      for (const l of all) if (l) yield JSON.parse(l) as T;
    }
  } finally {
    void reader.cancel().catch(() => undefined);
  }
}

/** search finds names, or lines of files. */
export async function* search(workspace: string, query: { name?: string; text?: string; expression?: boolean; exact?: boolean; limit: number }, signal: AbortSignal): AsyncGenerator<Found> {
  const q = new URLSearchParams();
  for (const [k, v] of Object.entries(query)) if (v) q.set(k, String(v));
  yield* lines<Found>(await asked(`/api/v1/workspaces/${encodeURIComponent(workspace)}/files/search?${q}`, { signal }));
}

/** watch tells what changes in a workspace's folder until the signal; after a break everything counts as changed. */
export async function watch(workspace: string, changed: (c: FileChange) => void, signal: AbortSignal) {
  for (let pause = 1_000; !signal.aborted; pause = Math.min(2 * pause, 30_000)) {
    try {
      const answer = await asked(`/api/v1/workspaces/${encodeURIComponent(workspace)}/files/watch`, { signal });
      for await (const c of lines<FileChange>(answer)) {
        pause = 1_000;
        changed(c);
      }
    } catch (e) {
      if (signal.aborted) return;
      if (e instanceof Problem && e.status === 404) return; // it is gone
    }
    await new Promise((r) => setTimeout(r, pause));
  }
}
