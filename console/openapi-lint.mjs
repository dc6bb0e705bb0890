// Lints the description of the HTTP door by the rules of a well-known linter. What
// it says is wrong ends this with 1.
import { createConfig, lint } from "@redocly/openapi-core";

const config = await createConfig({
  extends: ["recommended-strict"],
  rules: {
    "info-license": "off", // the door has none of its own
    "no-server-example.com": "off",
    "operation-4xx-response": "error",
    "operation-operationId-unique": "error",
    "operation-description": "error",
    "no-unused-components": "off", // the messages of terminals stand in an extension
    "tag-description": "error",
    "operation-tag-defined": "error",
  },
});
// WebSocket: answered 101; and where a browser is sent on: 303.
const upgrades = ["session", "tunnel", "datagrams", "listen", "ssh", "languages", "debuggers", "{provider}~1begin", "{provider}~1return", "{provider}~1over", "git-hosts~1return"];
const problems = (await lint({ ref: process.argv[2] ?? "../docs/openapi.json", config })).filter((p) => !(p.ruleId === "operation-2xx-response" && upgrades.some((u) => p.location[0]?.pointer?.includes(u))));
for (const p of problems) console.error(`${p.severity}: ${p.location[0]?.pointer ?? ""}: ${p.ruleId}: ${p.message}`);
process.exit(problems.length ? 1 : 0);
