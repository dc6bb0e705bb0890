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
const service = { selector: "ImportDeclaration[source.value='../api/client'] ImportSpecifier[imported.name=/^(api|take|whole)$/]", message: "What is asked of the service goes to service/, a file a noun." };
// What a page says stands in src/words, a function for each sentence.
// Keys of a keyboard are the same in any language, and what it is called is its name.
const letters = "/^(?!(Alt|Ctrl|Shift)-|F\\d|Yard Bench$).*[A-Za-z]{2}/s";
const saidByLabel = "/^(title|label|placeholder|aria-label|alt|okText|cancelText|description|extra|message|ok|empty)$/";
const said = [`JSXElement[openingElement.name.name!=/^(code|kbd|pre)$/] > JSXText[value=${letters}]`, `JSXAttribute[name.name=${saidByLabel}] > Literal[value=${letters}]`, `Property[key.name=/^(title|label|placeholder|okText|cancelText|description|content|means)$/] > Literal[value=${letters}]`, "TemplateElement[value.raw=/[a-z]{2} (?!solid)[a-z]{2}/]", "Literal[value=/^(?!Yard Bench$)[A-Z][a-z]+ .*[a-z]/]", "Literal[value=/[a-z]{2}[;,] [a-z]+ [a-z]/]", "JSXElement > JSXExpressionContainer > :matches(ConditionalExpression, LogicalExpression) > Literal[value=/[a-z]{2}/]", "Property[key.name=/^(note|submitLabel|word)$/] > Literal[value=/[a-z]{2}/]"].map((selector) => ({ selector, message: "What a page says goes to words/, a function for each sentence." }));
const syntax = { files: ["src/**"], ignores: ["src/words/**"], rules: { "no-restricted-syntax": ["error", ...said] } };
const syntaxOfPages = { files: ["src/parts/**", ...rooms.map((r) => `src/${r}/**`)], rules: { "no-restricted-syntax": ["error", service, ...said] } };
const shared = {
  files: ["src/parts/**", "src/service/**"],
  rules: { "no-restricted-imports": ["error", { patterns: [{ group: rooms.map((o) => `**/${o}/*`), message: "What pages share stands below them." }] }] },
};

export default ts.config({ ignores: ["src/api/schema.d.ts"] }, js.configs.recommended, ...ts.configs.recommended, hooks.configs.flat["recommended-latest"], ...apart, shared, syntax, syntaxOfPages);
