// Each view: what it shows, how it behaves, that everyone can use it.
import { readFile } from "node:fs/promises";
import { expect, expectAccessible, school, supply, test } from "./desk.js";

test("the table sorts, filters, drills and is taken away as seen", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  await page.getByRole("link", { name: "Spend", exact: true }).last().click();
  await expect(page.getByRole("columnheader", { name: "Spend" })).toHaveAttribute("aria-sort", "descending");
  await page.getByLabel("Filter by name").fill("display");
  await expect(page.locator("tbody tr")).toHaveCount(4);
  await expect(page).toHaveURL(/q=display/);
  const [file] = await Promise.all([page.waitForEvent("download"), page.getByRole("link", { name: "CSV" }).click()]);
  const csv = await readFile(await file.path(), "utf8");
  expect(csv.trim().split("\r\n").length).toBeGreaterThanOrEqual(5);
  await page.getByRole("link", { name: "ad groups of Apiary visits, display" }).click();
  await expect(page.getByRole("navigation", { name: "Where you are" })).toContainText("Apiary visits, display");
  await page.getByRole("link", { name: "items of Everyone" }).click();
  await expect(page.locator("tbody tr")).toHaveCount(1);
  await page.locator("tbody tr th a").click();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Adults, all places");
});

test("columns are chosen and remembered", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  await page.getByRole("button", { name: "columns" }).click();
  await page.getByLabel("Impressions").check();
  await page.getByRole("button", { name: "Show these" }).click();
  await expect(page.getByRole("columnheader", { name: "Impressions" })).toBeVisible();
  await page.goto(`${school}/spend`);
  await expect(page.getByRole("columnheader", { name: "Impressions" })).toBeVisible();
  await page.goto(`${supply}/spend`);
  await expect(page.getByRole("columnheader", { name: "ROAS", exact: true })).toBeVisible();
  await expect(page.getByRole("columnheader", { name: "Impressions" })).toHaveCount(0);
});

test("columns are ordered, and rows stand beside their peers", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  await page.getByRole("button", { name: "columns" }).click();
  const order = () => page.locator(".dropdown-menu input[name=columns]:checked").evaluateAll((all) => all.map((c) => c.value));
  const before = await order();
  const up = page.getByRole("button", { name: "Clicks further left" });
  await up.focus();
  await page.keyboard.press("Enter");
  await expect(up).toBeFocused();
  const place = before.indexOf("clicks");
  expect((await order()).indexOf("clicks")).toBe(place - 1);
  await page.getByRole("button", { name: "Show these" }).click();
  await page.goto(`${school}/spend`);
  const headers = await page.getByRole("columnheader").allTextContents();
  expect(headers.findIndex((h) => h.startsWith("Clicks"))).toBe(place + 2);
  await page.getByRole("link", { name: "beside peers" }).click();
  await expect(page.getByRole("columnheader", { name: "CVR to peers %" })).toBeVisible();
  const row = page.getByRole("row", { name: /Apiary visits, display/ });
  await row.locator("a.working[href*='figure=cvr_peers']").click();
  await expect(page.locator("#working")).toContainText("its own ÷ its peers’ together − 1");
  await page.keyboard.press("Escape");
  await page.getByRole("link", { name: "usual columns" }).click();
  await expect(page.getByRole("columnheader", { name: "CVR to peers %" })).toHaveCount(0);
});

test("a split leads to the campaigns behind it, and its figures to their working", async ({ desk: page }) => {
  await page.goto(`${school}/spend/split?by=country`);
  await page.locator("tbody a.working[href*='figure=cpa']").first().click();
  await expect(page.locator("#working")).toContainText("spend ÷ conversions");
  await page.keyboard.press("Escape");
  await page.locator("tbody").getByRole("link", { name: "Germany" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Country: Germany, by campaign");
  await page.locator("tbody").getByRole("link", { name: "Queen rearing, feed" }).click();
  await expect(page.getByRole("combobox", { name: "Campaign" })).toContainText("Queen rearing, feed");
  await page.locator("tbody").getByRole("link", { name: "Germany" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Queen rearing, feed");
  await expectAccessible(page);
});

test("the path of bids and the end of open days are shown", async ({ desk: page }) => {
  await page.goto(`${supply}/causes`);
  await page.getByRole("link", { name: "Stall, jars" }).first().click();
  await expect(page.getByRole("heading", { name: "The path of its bids" })).toBeVisible();
  await expect(page.getByText("It comes to rest at")).toBeVisible();
  await expect(page.locator(".chart .expected").first()).toBeVisible();
  await page.locator("table.findings a.working[href*='figure=excess']").first().click();
  await expect(page.locator("#working")).toContainText("spend − value ÷ target ROAS");
  await page.keyboard.press("Escape");
  await expectAccessible(page);
});

test("a figure opens its working, and the numbers work out", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  const row = page.getByRole("row", { name: /Spring courses/ });
  const data = await row.evaluate((r) => ({ ...r.dataset }));
  await row.locator("a.working[href*='figure=cpa&'], a.working[href*='figure=cpa']").first().click();
  const box = page.locator("#working");
  await expect(box).toBeVisible();
  await expect(box).toContainText("spend ÷ conversions");
  const cpa = (Number(data.spend) / Number(data.conversions)).toFixed(2);
  await expect(box).toContainText(cpa);
  await expect(box).toContainText("exact Poisson");
  await page.keyboard.press("Escape");
  await expect(box).toBeHidden();
  expect(Math.abs(Number(data.spend) - 30 * Number(data.conversions) - Number(data.excess))).toBeLessThan(1e-6);
});

test("the spend field's areas are the spends in the table", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  const ratios = await page.evaluate(() =>
    [...document.querySelectorAll(".wide-form .field a[data-key]")].map((block) => {
      const height = [...block.querySelectorAll(".body, .over")].reduce((h, r) => h + Number(r.getAttribute("height")), 0);
      const row = document.querySelector(`tr[data-key="${block.dataset.key}"]`);
      return { area: height * Number(block.querySelector(".frame").getAttribute("width")), spend: Number(row.dataset.spend), name: block.dataset.readout };
    }),
  );
  expect(ratios.length).toBeGreaterThan(10);
  // Very dear campaigns are cut at the top, and say so.
  const uncut = ratios.filter((r) => r.spend > 1000);
  const unit = uncut[0].area / uncut[0].spend;
  for (const r of uncut) expect(Math.abs(r.area / r.spend / unit - 1), r.name).toBeLessThan(0.02);
});

test("dragging across the field adds up what it crosses", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  const blocks = page.locator(".field a[data-key]");
  const [from, to] = [await blocks.nth(1).boundingBox(), await blocks.nth(2).boundingBox()];
  const y = from.y + from.height - 5;
  await page.mouse.move(from.x + 5, y);
  await page.mouse.down();
  await page.mouse.move(to.x + 20, y, { steps: 4 });
  await page.mouse.up();
  await expect(page.locator("#readout")).toContainText("2 chosen");
  await expect(page).toHaveURL(/spend$/);
  await page.keyboard.press("Escape");
  await expect(page.locator("#readout")).not.toContainText("chosen");
});

test("a view is put by and opened again", async ({ desk: page }) => {
  await page.goto(`${supply}/spend?level=items&q=jar`);
  await page.getByRole("button", { name: "views" }).click();
  await page.getByLabel("Save view as").fill("Jars alone");
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await page.goto(`${supply}/spend`);
  await page.getByRole("button", { name: "views" }).click();
  await page.getByRole("link", { name: "Jars alone" }).click();
  await expect(page).toHaveURL(/level=items/);
  await expect(page.getByLabel("Filter by name")).toHaveValue("jar");
});

test("a campaign's own target is set, shows, and is given up again", async ({ desk: page }) => {
  await page.goto(`${supply}/spend`);
  await page.getByRole("link", { name: "target of Shop listings" }).click();
  await page.getByLabel(/^Target ROAS: revenue/).check();
  await page.getByRole("textbox", { name: "Target ROAS" }).fill("lots");
  await page.getByRole("button", { name: "Apply", exact: true }).click();
  await expect(page.getByRole("alert")).toContainText("‘lots’ is not a number");
  await page.getByRole("textbox", { name: "Target ROAS" }).fill("12");
  await page.getByRole("button", { name: "Apply", exact: true }).click();
  await expect(page.getByRole("row", { name: /Shop listings/ })).toContainText("12.00");
  await page.getByRole("link", { name: "target of Shop listings" }).click();
  await page.getByLabel("Follow the account").check();
  await page.getByRole("button", { name: "Apply", exact: true }).click();
  await expect(page.getByRole("row", { name: /Shop listings/ })).toContainText("4.00");
});

test("the period moves and survives a reload", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  await page.getByRole("button", { name: "28 settled days" }).click();
  await page.getByRole("link", { name: "Last 7 settled days" }).click();
  await expect(page.getByRole("button", { name: "1 Nov – 7 Nov, 7 settled days" })).toBeVisible();
  await page.keyboard.press("[");
  await expect(page.getByRole("button", { name: "25 Oct – 31 Oct" })).toBeVisible();
  await page.reload();
  await expect(page.getByRole("button", { name: "25 Oct – 31 Oct" })).toBeVisible();
  await page.keyboard.press("g");
  await page.keyboard.press("c");
  await expect(page.getByRole("heading", { name: "Causes" })).toBeVisible();
  await expect(page.getByRole("button", { name: "25 Oct – 31 Oct" })).toBeVisible();
});

test("the planted faults are named on their pages", async ({ desk: page }) => {
  const verdict = async (account, campaign, text) => {
    await page.goto(`${account}/causes`);
    await page.getByRole("link", { name: campaign }).click();
    await expect(page.locator(".lead-in").first()).toContainText(text);
  };
  await verdict(school, "Spring courses, search", "It pays too much per click.");
  await verdict(school, "Apiary visits, display", "It reaches the wrong people.");
  await verdict(school, "Beginner film", "Too early to tell.");
  await verdict(supply, "Extractors, search", "No conversion has been reported since 1 Nov");
  await verdict(supply, "Hive kits, search", "It is on target.");
  await expect(page.getByRole("cell", { name: "its budget" })).toBeVisible();
});

test("Today says by itself that it was shown, once a session", async ({ page }) => {
  const shown = page.waitForResponse((answer) => answer.url().includes("/today/seen"));
  await page.goto("/sign-in");
  await page.getByRole("button", { name: "demo analyst" }).click();
  expect((await shown).status()).toBe(204);
  await page.reload();
  await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
  await expect(page.locator("form[action$='/today/seen']")).toHaveCount(0);
});

test("by keyboard alone: sign in, open the worst campaign, make a plan, save it", async ({ page }) => {
  await page.goto("/sign-in");
  const press = async (key, times = 1) => { for (let i = 0; i < times; i++) await page.keyboard.press(key); };
  const focusOn = async (text, key = "Tab") => {
    for (let i = 0; i < 120; i++) {
      const at = await page.evaluate(() => { const e = document.activeElement; return e.getAttribute("aria-label") || e.innerText || e.labels?.[0]?.innerText || e.value || ""; });
      if (at.trim().startsWith(text)) return;
      await page.keyboard.press(key);
    }
    throw new Error(`never reached ‘${text}’`);
  };
  await focusOn("Look around");
  await press("Enter");
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Tuesday, 10 November");
  await press("g");
  await press("s");
  await expect(page.getByRole("heading", { name: "Spend" })).toBeVisible();
  await press("j");
  await expect(page.locator("tbody th a").first()).toBeFocused();
  await press("x");
  await expect(page.locator("#readout")).toContainText("1 chosen");
  await press("Enter");
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Spring courses, search");
  await press("g");
  await press("b");
  await expect(page.getByRole("heading", { name: "Budgets" })).toBeVisible();
  await focusOn("New plan");
  await press("Enter");
  await expect(page.getByRole("heading", { name: "New plan" })).toBeVisible();
  await focusOn("Make the plan");
  await press("Enter");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("reallocated");
  await focusOn("Floor of Evening calls");
  await page.keyboard.type("2300");
  await press("Tab");
  await expect(page.getByText("Floor of Evening calls, feed", { exact: true })).toBeVisible();
  await focusOn("Save", "Shift+Tab");
  await press("Enter");
  await expect(page.getByText("not saved")).toHaveCount(0);
  await press("Escape");
  await page.locator("h1").click();
  await press("?");
  await expect(page.locator("#keys")).toBeVisible();
});

const places = ["today", "measure", "spend/split?by=hour", "spend/split?by=country", "tray", "logbook", "logbook/how-right-we-were", "channels", "spend", "spend?level=items&q=course", "causes", "reports", "targets", "budgets", "budgets/new", "spend/pace"];
for (const [scheme, account] of [["light", school], ["dark", supply]]) {
  test(`nothing stands in anybody's way (${scheme})`, async ({ desk: page }) => {
    test.setTimeout(240_000);
    await page.emulateMedia({ colorScheme: scheme });
    const open = async (path) => { await page.goto(path); await expectAccessible(page); };
    await open("/sign-in");
    await open("/nowhere-at-all");
    for (const place of places) await open(`${account}/${place}`);
    await page.goto(`${account}/causes`);
    await page.locator("tbody th a").first().click();
    await expectAccessible(page);
    await page.goto(`${account}/budgets/new`);
    await page.getByRole("button", { name: "Make the plan" }).click();
    await expectAccessible(page);
  });
}

test("no page scrolls sideways, and text in charts can be read, from 390 to 1920", async ({ desk: page }) => {
  test.setTimeout(240_000);
  await page.goto(`${school}/causes`);
  const campaign = new URL(await page.locator("tbody th a").first().getAttribute("href"), page.url()).href;
  for (const width of [390, 1024, 1280, 1920]) {
    await page.setViewportSize({ width, height: 800 });
    for (const place of [...places.map((p) => `${school}/${p}`), campaign]) {
      await page.goto(place);
      const found = await page.evaluate(() => ({
        sideways: document.documentElement.scrollWidth - document.documentElement.clientWidth,
        small: [...document.querySelectorAll("svg text")].filter((t) => { const { height } = t.getBoundingClientRect(); return height > 0 && height < 10; }).length,
      }));
      expect(found, `${place} at ${width}`).toEqual({ sideways: 0, small: 0 });
    }
  }
});

test("focus is seen on every button, and never under the tray", async ({ desk: page }) => {
  await page.goto(`${school}/budgets/new`);
  const seen = async () => page.evaluate(() => {
    const on = document.activeElement;
    const { outlineStyle, outlineWidth } = getComputedStyle(on);
    const tray = document.getElementById("tray-bar").getBoundingClientRect();
    const hidden = !on.closest("#tray-bar") && on.getBoundingClientRect().bottom > tray.top + 1;
    return { name: on.textContent.trim().slice(0, 40), button: on.matches(".btn"), outline: outlineStyle !== "none" && parseFloat(outlineWidth) >= 2, hidden };
  });
  let buttons = 0;
  for (let step = 0; step < 60 && buttons < 1; step++) {
    await page.keyboard.press("Tab");
    const now = await seen();
    expect(now.hidden, JSON.stringify(now)).toBe(false);
    if (now.button) { buttons++; expect(now.outline, JSON.stringify(now)).toBe(true); }
  }
  expect(buttons).toBe(1);
});
