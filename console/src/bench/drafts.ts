import { clear, createStore, del, get, keys, set } from "idb-keyval";

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

/** drafts is how many files are written and not saved, of whomever. */
export const drafts = async () => ((await quietly(keys(store()))) ?? []).length;

/** forget forgets all that was kept of the bench here, but for what its reader likes: the next at this machine may be somebody else. */
export async function forget() {
  await quietly(clear(store()));
  try {
    for (const key of Object.keys(localStorage)) if (/^yardbench\.(bench|breakpoints|launches)\./.test(key)) localStorage.removeItem(key);
  } catch {
    // Nothing was kept then.
  }
}
