import { defineConfig } from "vite";

const server = "http://127.0.0.1:5180";

export default defineConfig({
  esbuild: { jsx: "automatic" },
  build: { target: "es2022", chunkSizeWarningLimit: 1500 },
  server: { proxy: { "/api": server } },
});
