import { chromium } from "playwright";
const [,, ...pairs] = process.argv;
const b = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
const p = await b.newPage({ viewport: { width: 1280, height: 800 } });
await p.goto("http://127.0.0.1:8501/"); await p.getByRole("button", { name: /demo analyst/i }).click();
await p.waitForLoadState();
for (let i = 0; i < pairs.length; i += 2) { await p.goto("http://127.0.0.1:8501/accounts/" + pairs[i]); await p.waitForLoadState("networkidle"); await p.screenshot({ path: `/tmp/${pairs[i+1]}.png`, fullPage: process.env.FULL === "1" }); }
await b.close();
