import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1500 },
  test: { setupFiles: ["vitest.setup.ts"], testTimeout: 30_000 },
  server: { proxy: { "/api": process.env.DRAWKNIFE_URL ?? "http://127.0.0.1:8750" } },
});
