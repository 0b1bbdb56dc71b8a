import { chromium } from "@playwright/test";
import config from "./playwright.config.js";
import { readFileSync } from "node:fs";
const browser = await chromium.launch(config.use.launchOptions);
const [out, ...files] = process.argv.slice(2);
const page = await browser.newPage({ viewport: { width: 1920, height: 100 } });
await page.setContent(`<body style="margin:0;display:grid;grid-template-columns:1fr 1fr;gap:6px;background:#c0f">${files.map((f) => `<img style="width:100%" src="data:image/png;base64,${readFileSync(f).toString("base64")}">`).join("")}`);
await page.screenshot({ path: out, fullPage: true });
await browser.close();
