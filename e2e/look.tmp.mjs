import { chromium } from "@playwright/test";
const b = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
const p = await b.newPage({ viewport: { width: 1280, height: 800 } });
await p.goto("http://127.0.0.1:8501/"); await p.locator("button").first().click(); await p.waitForLoadState();
for (let i=0;i<5;i++) {
for (const a of ["school","supply","norge"]) {
  await p.goto(`http://127.0.0.1:8501/accounts/amberfold-${a}/today`);
  console.log("==", a, await p.locator(".alarms").allInnerTexts());
}
 if (i<4) { await p.goto(`http://127.0.0.1:8501/accounts/amberfold-school/today`);
  await p.getByRole("button", { name: /market day/ }).click();
  await p.getByRole("button", { name: "Let a week pass" }).click();
  await p.waitForTimeout(25000); }
}
await p.goto(`http://127.0.0.1:8501/accounts/amberfold-school/today`);
await p.screenshot({ path: "/tmp/today.png" });
await b.close();
