import { defineConfig } from "@playwright/test";
import { existsSync } from "node:fs";

// Debian's Chromium: its headless form, which has no window to draw and takes a fifth less, or else the whole of it.
const chromium = ["/usr/bin/chromium-headless-shell", "/usr/bin/chromium"].find((path) => existsSync(path));

export default defineConfig({
  testDir: ".",
  outputDir: "results",
  globalSetup: "./application.mjs",
  timeout: 1_800_000,
  expect: { timeout: 300_000 }, // for slow machines: what is there at once costs nothing
  workers: 2, // the files of tests share an application, and keep to cases of their own
  reporter: [["list"]],
  use: {
    actionTimeout: 300_000, // as what is expected: else what never comes is waited for as long as the whole test
    navigationTimeout: 300_000,
    viewport: { width: 1280, height: 800 },
    colorScheme: "light",
    acceptDownloads: true,
    screenshot: "only-on-failure",
    launchOptions: {
      executablePath: chromium,
      args: [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
      ],
    },
  },
});
