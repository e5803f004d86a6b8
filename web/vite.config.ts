import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

// What every page needs comes in one file, as each more costs the first view.
const everywhere =
  /\/node_modules\/(react|react-dom|scheduler|react-router|@tanstack\/(react-query|query-core|react-virtual|virtual-core))\/|\/src\/(api|live|preferences|units|format|time\/(duration|format|zone))/;

/** The script that runs before all else is no module, as those wait for the page. Its name carries a hash as
 *  those of the others do, so that a browser keeps it and need not ask. */
const first = (building: boolean): Plugin => ({
  name: "first",
  buildStart() {
    if (building) this.emitFile({ type: "chunk", id: "src/first.ts", name: "first" });
  },
  transformIndexHtml: (_, { bundle }) => {
    if (!building) return [{ tag: "script", attrs: { type: "module", src: "/src/first.ts" } }];
    const made = Object.values(bundle ?? {}).find((f) => f.name === "first");
    if (!made) throw new Error("src/first.ts is not in the bundle");
    return [{ tag: "script", attrs: { src: `/${made.fileName}` }, injectTo: "head-prepend" }];
  },
});

export default defineConfig(({ command }) => ({
  plugins: [react(), tailwindcss(), first(command === "build")],
  build: {
    outDir: "dist",
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: "everywhere", test: everywhere }] } } },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8460" } },
}));
