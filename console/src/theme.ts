import { theme, type ThemeConfig } from "antd";
import { useSyncExternalStore } from "react";

export const colours = {
  paper: "#f7f5f0",
  ink: "#14293d",
  accent: "#c8501e",
  good: "#1f7a67",
  attention: "#b7791f",
  failed: "#a8322a",
  rest: "#5b6b7a",
};

const dark = window.matchMedia("(prefers-color-scheme: dark)");

/** Whether the reader's system asks for a dark page. */
export function useDark(): boolean {
  return useSyncExternalStore(
    (changed) => {
      dark.addEventListener("change", changed);
      return () => dark.removeEventListener("change", changed);
    },
    () => dark.matches,
  );
}

export function themeFor(isDark: boolean): ThemeConfig {
  return {
    algorithm: isDark ? theme.darkAlgorithm : theme.defaultAlgorithm,
    token: {
      colorPrimary: colours.accent,
      colorSuccess: isDark ? "#3fa78f" : colours.good,
      colorWarning: isDark ? "#d39a3e" : colours.attention,
      colorError: isDark ? "#d9685f" : colours.failed,
      colorLink: isDark ? "#e8855a" : "#a63f14",
      colorBgLayout: isDark ? "#0e1b28" : colours.paper,
      colorBgContainer: isDark ? "#142434" : "#fffdf9",
      colorTextBase: isDark ? "#e9e4d8" : colours.ink,
      // The defaults are too pale to be read on paper (4.5:1 is the least).
      colorTextSecondary: isDark ? "#b3bdc6" : "#4d5d6b",
      colorTextDescription: isDark ? "#b3bdc6" : "#4d5d6b",
      colorTextPlaceholder: isDark ? "#9aa6b1" : "#66737f",
      borderRadius: 3,
      fontSize: 14,
      controlHeight: 30,
      fontFamily: "'Source Sans 3', 'Noto Sans', 'DejaVu Sans', system-ui, sans-serif",
      fontFamilyCode: "'DejaVu Sans Mono', ui-monospace, monospace",
      wireframe: false,
    },
    components: { Table: { cellPaddingBlockSM: 7 } },
  };
}
