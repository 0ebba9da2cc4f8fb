import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { target: "es2022", sourcemap: false, chunkSizeWarningLimit: 1000 },
  server: {
    host: "127.0.0.1",
    port: 8421,
    // The server takes writes from its own pages only, so the host has to stay as it was asked for.
    proxy: {
      "/api": { target: `http://${process.env.BIVIUM_LISTEN ?? "127.0.0.1:8420"}`, changeOrigin: false },
    },
  },
});
