import { readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Lays a Brotli form beside every text file of the build, so that the service need not make one. */
function brotliSiblings(): Plugin {
  const walk = (folder: string): string[] =>
    readdirSync(folder).flatMap((name) => {
      const path = join(folder, name);
      return statSync(path).isDirectory() ? walk(path) : [path];
    });
  return {
    name: "brotli-siblings",
    apply: "build",
    closeBundle() {
      for (const path of walk("dist").filter((name) => /\.(html|js|css|svg)$/.test(name))) {
        writeFileSync(`${path}.br`, brotliCompressSync(readFileSync(path)));
      }
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwindcss(), brotliSiblings()],
  build: { assetsInlineLimit: 0 },
});
