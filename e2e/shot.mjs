import { chromium } from "@playwright/test";
import config from "./playwright.config.js";
import { school, supply } from "./tests/desk.js";
const { viewport, colorScheme, launchOptions } = config.use;
const browser = await chromium.launch(launchOptions);
const page = await browser.newPage({ baseURL: "http://127.0.0.1:8501", viewport, colorScheme });
await page.goto("/sign-in");
await page.getByRole("button", { name: "demo analyst" }).click();
await page.waitForURL(/today/);
const a = process.argv.slice(2);
for (let i = 0; i < a.length; i += 2) {
  const [first, ...rest] = a[i].split("/");
  await page.goto((first === "school" ? school : first === "supply" ? supply : "/" + first) + "/" + rest.join("/"));
  await page.waitForLoadState("networkidle");
  if (process.env.CLICK) { await page.getByRole("link", { name: process.env.CLICK }).first().click(); await page.waitForLoadState("networkidle"); }
  console.log(page.url());
  if (process.env.TO) await page.getByText(process.env.TO).first().scrollIntoViewIfNeeded();
  await page.screenshot({ path: `/tmp/${a[i + 1]}.png`, fullPage: !!process.env.FULL });
}
await browser.close();
