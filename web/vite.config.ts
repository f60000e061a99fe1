import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";
import { antdAtBuild } from "./antd.ts";

/** atOnce has the page fetch what all pages need beside the script that fetches it. */
const atOnce: Plugin = {
  name: "at-once",
  transformIndexHtml: {
    order: "post",
    handler: (_, { bundle = {} }) =>
      Object.values(bundle).flatMap((chunk) =>
        chunk.type === "chunk" && chunk.name === "console"
          ? [
              {
                tag: "link",
                attrs: { rel: "modulepreload", crossorigin: true, href: `/${chunk.fileName}` },
                injectTo: "head",
              },
              ...[...(chunk.viteMetadata?.importedCss ?? [])].map((css) => ({
                tag: "link",
                attrs: { rel: "stylesheet", crossorigin: true, href: `/${css}` },
                injectTo: "head" as const,
              })),
            ]
          : [],
      ),
  },
};

/** fields are the folders of what forms are made of. */
const fields = ["select", "input", "input-number", "checkbox", "switch", "segmented", "radio", "space", "form"];

export default defineConfig({
  plugins: [antdAtBuild(), react(), atOnce],
  build: {
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 900,
    emptyOutDir: true,
    rollupOptions: {
      output: {
        // A page asks for what it shares with others in few files: each costs a round trip, and small ones
        // hardly pack. First what begins a page, then what every page needs, what forms need, and what calls the API.
        codeSplitting: {
          groups: [
            { name: "entry", test: /src\/(entry|pages|api\/early)\.ts$|vite\/preload-helper/, priority: 1 },
            { name: "console", test: /src\/main\.tsx$/ },
            {
              name: "fields",
              test: new RegExp(`node_modules/(antd/es|@rc-component)/(${fields.join("|")})/|src/parts/Choice`),
            },
            { name: "calls", test: /src\/(api\/|words)|queries\.ts$/ },
            { name: "parts", test: /src\/parts\/(?!Choice|EvidenceDrawer|Palette|Sure)/ },
            { name: "sure", test: /src\/parts\/Sure|node_modules\/antd\/es\/(popconfirm|popover)\// },
          ],
        },
      },
    },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8025" } },
});
