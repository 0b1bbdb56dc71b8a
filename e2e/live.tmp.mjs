import { chromium } from "@playwright/test";
const b = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
const p = await b.newPage({ viewport: { width: 1280, height: 800 } });
const A = "http://127.0.0.1:8601/accounts/amberfold-";
await p.goto("http://127.0.0.1:8601/"); await p.locator("button").first().click(); await p.waitForLoadState();
const flat = (t) => t.replace(/\s+/g, " ").trim();
for (let week = 0; week < 3; week++) {
  console.log(`\n######## week ${week}`);
  for (const a of ["school", "supply", "norge"]) {
    await p.goto(`${A}${a}/today`);
    console.log(`== ${a}:`, (await p.locator("p.letter").allInnerTexts()).map(flat).join(" | "));
    for (const x of await p.locator(".alarms li").allInnerTexts()) console.log("  ALARM", flat(x));
    for (const x of await p.locator(".todos li").allInnerTexts()) console.log("  DO", flat(x));
    if (week === 2) continue;
    const n = await p.locator(".todos button").count();
    for (let i = 0; i < n; i++) { await p.locator(".todos button").nth(i).click(); await p.waitForTimeout(700); }
    await p.goto(`${A}${a}/budgets`);
    const whole = p.locator("table.whole tbody tr");
    for (const x of await whole.allInnerTexts()) console.log("  BUDGETS", flat(x));
    const put = p.getByRole("button", { name: "Put selected in the tray" });
    if (await put.count()) { await put.first().click(); await p.waitForTimeout(1200); console.log("  PUT", flat(await p.locator("[id$=said], .said").allInnerTexts().then((t) => t.join(" ")))); }
    await p.goto(`${A}${a}/tray`);
    for (const x of await p.locator("tbody tr").allInnerTexts()) console.log("  TRAY", flat(x).slice(0, 230));
    console.log("  BAR", flat(await p.locator("#tray-bar").innerText()));
    const send = p.getByRole("button", { name: "Send selected" });
    if (await send.count()) { await send.click(); await p.waitForTimeout(2500); await p.goto(`${A}${a}/tray`); console.log("  SENT", flat(await p.locator("main").innerText()).slice(0, 400)); }
  }
  if (week < 2) {
    await p.goto(`${A}school/today`);
    await p.getByRole("button", { name: /market day/ }).click();
    await p.getByRole("button", { name: "Let a week pass" }).click();
    for (let i = 0; i < 60; i++) { await p.waitForTimeout(1500); await p.goto(`${A}school/today`); if (await p.getByRole("button", { name: /market day/ }).count()) { const t = await p.getByRole("button", { name: /market day/ }).innerText(); if (t.includes(week ? "23 Nov" : "16 Nov")) break; } }
    await p.waitForTimeout(6000);
  }
}
for (const a of ["school", "supply", "norge"]) {
  for (const [f, t] of [["2026-10-27", "2026-11-09"], ["2026-11-10", "2026-11-23"]]) {
    await p.goto(`${A}${a}/spend?from=${f}&to=${t}&alone=yes`);
    console.log("TOTAL", a, f, t, flat(await p.locator("tfoot").innerText()));
  }
  await p.goto(`${A}${a}/logbook`);
  for (const x of await p.locator("tbody tr").allInnerTexts()) console.log("  LOG", a, flat(x).slice(0, 150));
}
await b.close();
