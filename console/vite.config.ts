import { readFile, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Compressed copies beside each file, made when all are written: the service sends them as they are. */
function compressed(): Plugin {
  return {
    name: "compressed",
    apply: "build",
    async writeBundle({ dir = "" }, bundle) {
      for (const name of Object.keys(bundle).filter((one) => /\.(js|css|svg)$/.test(one))) {
        const source = await readFile(join(dir, name));
        const params = { [constants.BROTLI_PARAM_QUALITY]: 11 };
        await writeFile(join(dir, `${name}.br`), brotliCompressSync(source, { params }));
        await writeFile(join(dir, `${name}.gz`), gzipSync(source, { level: 9 }));
      }
    },
  };
}

/** The page of the API is the library's own, served from here: it needs nothing of the internet. */
function apiPage(): Plugin {
  return {
    name: "api-page",
    apply: "build",
    async generateBundle() {
      for (const name of ["swagger-ui-bundle.js", "swagger-ui.css"]) {
        const source = await readFile(new URL(`./node_modules/swagger-ui-dist/${name}`, import.meta.url));
        this.emitFile({ type: "asset", fileName: `api-page/${name}`, source });
      }
    },
  };
}

export default defineConfig({
  resolve: { alias: { "~": new URL("./src", import.meta.url).pathname } },
  plugins: [react(), tailwindcss(), apiPage(), compressed()],
  html: { cspNonce: "__NONCE__" },
  worker: { format: "es" },
  build: {
    outDir: "../src/bathotype/console_dist",
    emptyOutDir: true,
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8620" } },
});
