import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

// A page stands on what is shared, and on no other page.
const rooms = ["pages", "mine", "bench"];
const apart = rooms.map((room) => ({
  files: [`src/${room}/**`],
  rules: { "no-restricted-imports": ["error", { patterns: [{ group: [...rooms.filter((o) => o !== room).map((o) => `**/${o}/*`), ...(room === "pages" ? ["./*Page"] : [])], message: "Pages do not import each other: what two need goes to parts/ or service/." }] }] },
}));
// What is asked of the service, and how it is called, stands in a file for each noun.
const asked = {
  files: ["src/parts/**", ...rooms.map((r) => `src/${r}/**`)],
  rules: { "no-restricted-syntax": ["error", { selector: "ImportDeclaration[source.value='../api/client'] ImportSpecifier[imported.name=/^(api|take|whole)$/]", message: "What is asked of the service goes to service/, a file a noun." }] },
};
const shared = {
  files: ["src/parts/**", "src/service/**"],
  rules: { "no-restricted-imports": ["error", { patterns: [{ group: rooms.map((o) => `**/${o}/*`), message: "What pages share stands below them." }] }] },
};

export default ts.config({ ignores: ["src/api/schema.d.ts"] }, js.configs.recommended, ...ts.configs.recommended, hooks.configs.flat["recommended-latest"], ...apart, shared, asked);
