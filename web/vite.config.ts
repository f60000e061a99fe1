import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900, emptyOutDir: true },
  server: { proxy: { "/api": "http://127.0.0.1:8025" } },
});
