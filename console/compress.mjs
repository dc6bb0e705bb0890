// Compresses the built files once, beside themselves: the service serves them so to
// whoever takes it.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { constants, gzipSync } from "node:zlib";

const folder = "dist/assets";
for (const name of readdirSync(folder)) {
  if (!/\.(js|css|svg)$/.test(name)) continue;
  const text = readFileSync(join(folder, name));
  if (text.length > 1024) writeFileSync(join(folder, `${name}.gz`), gzipSync(text, { level: constants.Z_BEST_COMPRESSION }));
}
