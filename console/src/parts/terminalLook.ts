/** How every terminal looks. */
export const terminalLook = {
  fontFamily: "'DejaVu Sans Mono', ui-monospace, monospace",
  fontSize: 13,
  theme: { background: "#10202f", foreground: "#e9e4d8", cursor: "#e8855a" },
};
