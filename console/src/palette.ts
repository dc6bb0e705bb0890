import { useSyncExternalStore } from "react";
import { useTaste } from "./parts/taste";

/**
 * Every colour of ours, for a light page and for a dark one. Text on the page and
 * on what lies on it has at least 4.5:1, shapes 3:1 (WCAG 2.2, 1.4.3 and
 * 1.4.11); a test computes it from this table.
 */
export const palette = {
  light: { paper: "#f7f5f0", surface: "#fffdf9", ink: "#14293d", second: "#4d5d6b", faint: "#5f6c78", accent: "#c8501e", link: "#a63f14", good: "#1f7a67", attention: "#8f5c12", failed: "#a8322a", rest: "#566675", keyword: "#94400f", text: "#1c6650", number: "#7a4a00", type: "#1d4f86", property: "#5f3b86" },
  dark: { paper: "#0e1b28", surface: "#142434", ink: "#e9e4d8", second: "#b3bdc6", faint: "#9aa6b1", accent: "#c8501e", link: "#e8855a", good: "#3fa78f", attention: "#d39a3e", failed: "#e07a71", rest: "#93a2b0", keyword: "#e8855a", text: "#6fc2a8", number: "#d9a95a", type: "#7fb4e6", property: "#c3a5e3" },
};
export type Colours = (typeof palette)["light"];

const dark = window.matchMedia("(prefers-color-scheme: dark)");

/** Whether the page is dark: as the reader's system asks for, or as they chose. */
export function useDark(): boolean {
  const [{ scheme }] = useTaste();
  const system = useSyncExternalStore(
    (changed) => {
      dark.addEventListener("change", changed);
      return () => dark.removeEventListener("change", changed);
    },
    () => dark.matches,
  );
  return scheme === "as the system" ? system : scheme === "dark";
}

/** The colours of the page as it is now. */
export const useColours = (): Colours => (useDark() ? palette.dark : palette.light);
