import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The console is served by the service itself; `vite` alone passes /api on to one.
export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 2000 },
  server: { proxy: { "/api": { target: "http://127.0.0.1:7080", ws: true } } },
});
