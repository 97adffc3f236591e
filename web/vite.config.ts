import { resolve } from "node:path";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  resolve: { alias: { "@": resolve(import.meta.dirname, "src") } },
  server: { proxy: { "/api": process.env["MOORFOG_API"] ?? "http://127.0.0.1:8400" } },
  build: {
    target: "es2022",
    rollupOptions: {
      input: {
        main: resolve(import.meta.dirname, "index.html"),
        docs: resolve(import.meta.dirname, "docs.html"),
        stories: resolve(import.meta.dirname, "stories.html"),
      },
    },
    license: { fileName: "licences.md" },
    chunkSizeWarningLimit: 900,
  },
});
