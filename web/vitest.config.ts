import { defineConfig } from "vitest/config";

export default defineConfig({
  test: { include: ["src/**/*.test.{ts,tsx}"], setupFiles: ["src/testing/setup.ts"], testTimeout: 60_000 },
});
