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
      input: Object.fromEntries(
        ["index", "docs", "stories"].map((one) => [
          one === "index" ? "main" : one,
          resolve(import.meta.dirname, `${one}.html`),
        ]),
      ),
    },
    chunkSizeWarningLimit: 900,
  },
});
