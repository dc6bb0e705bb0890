import { useSyncExternalStore } from "react";

/** What a reader likes: kept in their browser, to be there before anybody is signed in, and for them wherever they are. */
export interface Taste {
  scheme: "as the system" | "light" | "dark";
  fontPixels: number; // of editors and terminals
  keys: "usual" | "emacs"; // of editors
  reader: boolean; // terminals say what they print to a screen reader
  times: "of the house" | "of here"; // in which zone times are told
}

const usual: Taste = { scheme: "as the system", fontPixels: 13, keys: "usual", reader: false, times: "of the house" };
const key = "yardbench.taste";
const watchers = new Set<() => void>();

/** tasteOf reads what was kept, whoever wrote it. */
function tasteOf(kept: unknown): Taste {
  const t = (typeof kept === "object" && kept !== null ? kept : {}) as Partial<Record<keyof Taste, unknown>>;
  return {
    scheme: t.scheme === "light" || t.scheme === "dark" ? t.scheme : usual.scheme,
    fontPixels: typeof t.fontPixels === "number" && t.fontPixels >= 9 && t.fontPixels <= 28 ? t.fontPixels : usual.fontPixels,
    keys: t.keys === "emacs" ? t.keys : usual.keys,
    reader: t.reader === true,
    times: t.times === "of here" ? t.times : usual.times,
  };
}

function kept(): Taste {
  try {
    return tasteOf(JSON.parse(localStorage.getItem(key) ?? "{}"));
  } catch {
    return usual;
  }
}
let now = kept();

window.addEventListener("storage", (e) => {
  if (e.key !== key) return;
  now = kept();
  for (const w of watchers) w();
});

let told: ((taste: Taste) => void) | undefined;

/** tasteFollows has what is kept elsewhere hold here, and what changes here be told; what it gives ends that. */
export function tasteFollows(kept: unknown, tell: (taste: Taste) => void): () => void {
  if (kept !== undefined) put(tasteOf(kept));
  told = tell;
  return () => {
    told = undefined;
  };
}

function change(some: Partial<Taste>) {
  put({ ...now, ...some });
  told?.(now);
}

function put(taste: Taste) {
  now = taste;
  try {
    localStorage.setItem(key, JSON.stringify(now));
  } catch {
    // It holds for this page then.
  }
  for (const w of watchers) w();
}

/** useTaste is what the reader likes, and changes it. */
export function useTaste(): [Taste, (some: Partial<Taste>) => void] {
  const taste = useSyncExternalStore(
    (changed) => {
      watchers.add(changed);
      return () => void watchers.delete(changed);
    },
    () => now,
  );
  return [taste, change];
}
