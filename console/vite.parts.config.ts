/** Builds the page that shows each part in each of its states, for tests alone. */
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  publicDir: false,
  build: { outDir: "dist-parts", rollupOptions: { input: "test/parts.html" } },
});
