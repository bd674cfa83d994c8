/** Builds the report page into one file: no network, so that it opens from a mail. `exedra report --as html` puts its data in. */
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Puts the script and the style sheet of the page into the page. */
function oneFile(): Plugin {
  return {
    name: "one-file",
    apply: "build",
    enforce: "post",
    generateBundle(_, bundle) {
      const page = bundle["report.html"];
      if (page?.type !== "asset") throw new Error("there is no report.html");
      let html = String(page.source);
      for (const [name, file] of Object.entries(bundle)) {
        if (file.type === "chunk") {
          // Whatever is between script tags ends at the first closing one.
          const code = file.code.replaceAll("</script", "<\\/script");
          html = html.replace(/<script type="module"[^>]*src="[^"]*"[^>]*><\/script>/, "");
          html = html.replace("</body>", () => `<script type="module">${code}</script>\n  </body>`);
          delete bundle[name];
        } else if (name.endsWith(".css")) {
          html = html.replace(/<link rel="stylesheet"[^>]*>/, () => `<style>${String(file.source)}</style>`);
          delete bundle[name];
        }
      }
      page.source = html;
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwindcss(), oneFile()],
  publicDir: false,
  build: {
    outDir: "dist-report",
    assetsInlineLimit: Number.MAX_SAFE_INTEGER,
    cssCodeSplit: false,
    modulePreload: false,
    rollupOptions: { input: "report.html" },
  },
});
