import { useSyncExternalStore } from "react";

/** What a reader likes, kept in their browser. */
export interface Taste {
  scheme: "as the system" | "light" | "dark";
  fontPixels: number; // of editors and terminals
  keys: "usual" | "emacs"; // of editors
  reader: boolean; // terminals say what they print to a screen reader
}

const usual: Taste = { scheme: "as the system", fontPixels: 13, keys: "usual", reader: false };
const key = "yardbench.taste";
const watchers = new Set<() => void>();

function kept(): Taste {
  try {
    const t = JSON.parse(localStorage.getItem(key) ?? "{}") as Partial<Taste>;
    return {
      scheme: t.scheme === "light" || t.scheme === "dark" ? t.scheme : usual.scheme,
      fontPixels: typeof t.fontPixels === "number" && t.fontPixels >= 9 && t.fontPixels <= 28 ? t.fontPixels : usual.fontPixels,
      keys: t.keys === "emacs" ? t.keys : usual.keys,
      reader: t.reader === true,
    };
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

function change(some: Partial<Taste>) {
  now = { ...now, ...some };
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
