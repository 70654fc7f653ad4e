import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The front end is built into the folder that the binary embeds, beside the
// placeholder that lets the binary be compiled without it. In
// development, `npm run dev` passes calls on to a running Ferry.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: "../internal/api/dist", emptyOutDir: false, chunkSizeWarningLimit: 1200 },
  server: { proxy: { "/api": "http://127.0.0.1:8642" } },
});
