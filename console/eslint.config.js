import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

// A page stands on what is shared, and on no other page.
const rooms = ["pages", "mine", "bench"];
const apart = rooms.map((room) => ({
  files: [`src/${room}/**`],
  rules: { "no-restricted-imports": ["error", { patterns: [{ group: [...rooms.filter((o) => o !== room).map((o) => `**/${o}/*`), ...(room === "pages" ? ["./*Page"] : [])], message: "Pages do not import each other: what two need goes to parts/ or service/." }] }] },
}));
const shared = {
  files: ["src/parts/**", "src/service/**"],
  rules: { "no-restricted-imports": ["error", { patterns: [{ group: rooms.map((o) => `**/${o}/*`), message: "What pages share stands below them." }] }] },
};

export default ts.config({ ignores: ["src/api/schema.d.ts"] }, js.configs.recommended, ...ts.configs.recommended, hooks.configs.flat["recommended-latest"], ...apart, shared);
