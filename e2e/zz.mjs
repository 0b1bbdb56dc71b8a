import { chromium } from "@playwright/test";
import config from "./playwright.config.js";
const { viewport, launchOptions } = config.use;
const browser = await chromium.launch(launchOptions);
const page = await browser.newPage({ baseURL: "http://127.0.0.1:8501", viewport, colorScheme: process.env.SCHEME || "light" });
await page.goto("/sign-in");
await page.getByRole("button", { name: "demo analyst" }).click();
await page.waitForURL(/today/);
for (const p of process.argv.slice(2)) {
  const r = await page.goto("/accounts/" + p);
  const n = p.replace(/[^a-z0-9-]/g, "_");
  await page.screenshot({ path: `/tmp/shot-${n}.png` });
  console.log(r.status(), n, await page.title());
}
await browser.close();
