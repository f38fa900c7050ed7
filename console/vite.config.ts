import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: {
    target: "es2022",
    // Nothing inlined: the content security policy allows files of our own only.
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1500,
  },
});
