import { createStore, del, get, keys, set } from "idb-keyval";

/** What somebody wrote and has not saved, kept in their browser until they do. */
export interface Draft {
  text: string;
  tag?: string; // of the file it was made from; without it there was none
  at: number;
}

// Kept for this long at most, so that what nobody comes back to does not stay for ever.
const keptMost = 90 * 24 * 3600e3;

let place: ReturnType<typeof createStore> | undefined;
const store = () => (place ??= createStore("yardbench-drafts", "drafts"));
const name = (person: string, workspace: string, path: string) => `${person}\0${workspace}\0${path}`;

/** A browser that keeps nothing, as in a private window, has no drafts: what is open is all there is. */
const quietly = <T>(what: Promise<T>) => what.catch(() => undefined);

export const draftOf = async (person: string, workspace: string, path: string) => {
  const draft = await quietly(get<Draft>(name(person, workspace, path), store()));
  return draft && Date.now() - draft.at < keptMost ? draft : undefined;
};
export const keepDraft = (person: string, workspace: string, path: string, d: Draft) => quietly(set(name(person, workspace, path), d, store()));
export const dropDraft = (person: string, workspace: string, path: string) => quietly(del(name(person, workspace, path), store()));

/** draftsOf are the paths of which somebody has drafts in a workspace. */
export async function draftsOf(person: string, workspace: string): Promise<string[]> {
  const all = (await quietly(keys<string>(store()))) ?? [];
  const start = `${person}\0${workspace}\0`;
  return all.filter((k) => typeof k === "string" && k.startsWith(start)).map((k) => k.slice(start.length));
}
