// Puts a packed copy (RFC 7932) beside each script and style of the built console, which the service
// sends to browsers that take it.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { brotliCompressSync } from "node:zlib";

const assets = new URL("dist/assets/", import.meta.url);
for (const name of readdirSync(assets).filter((n) => /\.(js|css)$/.test(n))) {
  writeFileSync(new URL(`${name}.br`, assets), brotliCompressSync(readFileSync(new URL(name, assets))));
}
