import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// What every page needs comes in one file, as each more costs the first view.
const everywhere =
  /\/node_modules\/(react|react-dom|scheduler|react-router|@tanstack\/(react-query|query-core|react-virtual|virtual-core))\/|\/src\/(api|live|preferences|units|format|time\/(duration|format|zone))/;

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: "dist",
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: "everywhere", test: everywhere }] } } },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8460" } },
});
