import { defineConfig } from "@playwright/test";

export default defineConfig({
  testDir: "tests",
  outputDir: "test-results",
  forbidOnly: true,
  // One database, one browser: the tests change the same demo accounts one after another.
  workers: 1,
  timeout: 180_000,
  // A busy machine may take its time; a page that never comes to it still fails.
  expect: { timeout: 30_000 },
  reporter: [["list"]],
  use: {
    baseURL: process.env.BASE_URL,
    viewport: { width: 1280, height: 800 },
    colorScheme: "light",
    trace: "retain-on-failure",
    launchOptions: {
      executablePath: "/usr/bin/chromium",
      args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
    },
  },
});
