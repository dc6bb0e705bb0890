import { theme, type ThemeConfig } from "antd";
import { palette } from "./palette";

/** antd in our colours. */
export function themeFor(isDark: boolean): ThemeConfig {
  const c = isDark ? palette.dark : palette.light;
  return {
    // What is made for the dark shades these colours once more: they are meant as they stand.
    algorithm: [isDark ? theme.darkAlgorithm : theme.defaultAlgorithm, (_, map) => ({ ...map!, colorPrimary: c.accent, colorSuccess: c.good, colorWarning: c.attention, colorError: c.failed, colorInfo: c.rest, colorLink: c.link })],
    token: {
      colorPrimary: c.accent,
      colorPrimaryHover: "#b54718", // darker, not paler: its words are white
      colorSuccess: c.good,
      colorWarning: c.attention,
      colorError: c.failed,
      colorInfo: c.rest,
      colorInfoBg: isDark ? "#1b2c3d" : "#ecebe6", // what is made of a grey is too heavy for a note
      colorInfoBorder: isDark ? "#2f4356" : "#d5d4cd",
      colorLink: c.link,
      colorBgLayout: c.paper,
      colorBgContainer: c.surface,
      colorTextBase: c.ink,
      // The defaults are too pale to be read on paper.
      colorTextSecondary: c.second,
      colorTextDescription: c.second,
      colorTextPlaceholder: c.faint,
      borderRadius: 3,
      fontSize: 14,
      controlHeight: 30,
      controlHeightSM: 24, // what is pressed has at least 24 pixels (WCAG 2.2, 2.5.8)
      fontFamily: "'Source Sans 3', 'Noto Sans', 'DejaVu Sans', system-ui, sans-serif",
      fontFamilyCode: "'DejaVu Sans Mono', ui-monospace, monospace",
      wireframe: false,
    },
    components: { Table: { cellPaddingBlockSM: 7 }, Tabs: { itemSelectedColor: c.link, itemHoverColor: c.link, itemActiveColor: c.link } },
  };
}
