import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// What nearly every page stands on comes in few parts: each is a way to the service and
// back. What comes before the sign-in stays apart from it.
const first = /node_modules[\\/](react|react-dom|scheduler|react-router|@tanstack[\\/](react-query|query-core)|openapi-fetch)[\\/]/;

// The console is served by the service itself; `vite` alone passes /api on to one.
export default defineConfig({
  plugins: [react()],
  // The words a page says, and how amounts and times are written, are a language's: another
  // one is a folder beside src/words/en with the same functions.
  resolve: { alias: { words: new URL("./src/words/en", import.meta.url).pathname } },
  build: {
    chunkSizeWarningLimit: 2000,
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            { name: "first", test: first, priority: 2 },
            { name: "common", test: /node_modules/, minShareCount: 26, priority: 1 },
          ],
        },
      },
    },
  },
  server: { proxy: { "/api": { target: "http://127.0.0.1:7080", ws: true } } },
});
