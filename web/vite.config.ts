import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: {
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 900,
    emptyOutDir: true,
    rollupOptions: {
      output: {
        // A page asks for what it shares with others in few files: each costs a round trip, and small ones
        // hardly pack. First what every page needs, then what forms need, then what calls the API.
        codeSplitting: {
          groups: [
            { name: "console", test: /src\/main\.tsx$/ },
            {
              name: "fields",
              test: /node_modules\/(antd\/es|@rc-component)\/(select|input|input-number|checkbox|switch|segmented|radio|space|form)\//,
            },
            { name: "calls", test: /src\/(api\/|words)|queries\.ts$/ },
          ],
        },
      },
    },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8025" } },
});
