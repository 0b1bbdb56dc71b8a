// A week at the market: from a verdict to the tray, sent, days pass, the campaign's CPA has come down, the logbook
// shows it. Runs after the other files: what is sent and what days pass changes the demo for good.
import { readFile } from "node:fs/promises";
import { expect, expectAccessible, school, supply, test } from "./desk.js";

const cpaOf = async (page, name, from, to) => {
  await page.goto(`${school}/spend?from=${from}&to=${to}&alone=yes`);
  const row = await page.getByRole("row", { name: new RegExp(name) }).evaluate((r) => ({ ...r.dataset }));
  const cpa = Number(row.spend) / Number(row.conversions);
  expect(cpa, JSON.stringify(row)).toBeGreaterThan(0);
  return cpa;
};

test("today’s letter says what is most worth doing, and puts it in the tray", async ({ desk: page }) => {
  await page.goto(`${school}/today`);
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Tuesday, 10 November");
  await expect(page.getByText("The change tray is empty")).toBeVisible();
  const first = page.locator(".todos li").filter({ hasText: "overspent in 28 settled days by Spring courses, search" });
  await expect(first).toBeVisible();
  await expectAccessible(page);
  await first.getByRole("button", { name: "Put in tray" }).click();
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  await expect(page.getByText("1 change waits")).toBeVisible();
  await first.getByRole("button", { name: "Put in tray" }).click();
  await expect(first).toContainText("Target CPA from 52.00 to 42.12 waits in the tray");
  await expect(page.getByText("1 change waits")).toBeVisible();
  await page.getByRole("link", { name: "Review and send" }).click();
  const open = page.getByRole("region", { name: "Change tray, opened" });
  await expect(open).toContainText("Target CPA");
  await page.keyboard.press("Escape");
  await expect(open).toBeHidden();
});

test("an alarm says what stopped, and leads to where one acts", async ({ desk: page }) => {
  await page.goto(`${supply}/today`);
  const alarm = page.getByRole("region", { name: "An alarm" }).getByRole("listitem");
  await expect(alarm).toContainText("Extractors, search had no conversion in the 7 settled days to 7 Nov");
  await alarm.getByRole("link").click();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Measure");
});

test("several rows are changed at once, with checks, and wrong input loses nothing", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  for (const name of ["Own name, search", "Visit listings"]) await page.getByLabel(`Choose ${name}`).check();
  await page.getByLabel("What").selectOption("budget");
  await page.getByRole("textbox", { name: "to", exact: true }).fill("lots");
  await page.getByRole("button", { name: "Put in tray" }).click();
  await expect(page.getByRole("alert")).toContainText("‘lots’ is not a number");
  await expect(page.getByLabel("Choose Visit listings")).toBeChecked();
  await page.getByRole("textbox", { name: "to", exact: true }).fill("+30%");
  await page.getByLabel("because").fill("Room below target.");
  await page.getByRole("button", { name: "Put in tray" }).click();
  await expect(page.getByText("2 changes were put in the tray.")).toBeVisible();
  await expect(page.getByText("daily budgets +31.20")).toBeVisible();
  await page.goto(`${school}/tray`);
  await expect(page.getByRole("row", { name: /Visit listings/ })).toContainText("+30% at once is a shock");
  await expectAccessible(page);
  const [file] = await Promise.all([page.waitForEvent("download"), page.getByRole("link", { name: "As CSV" }).click()]);
  expect(await readFile(await file.path(), "utf8")).toContain("Findle,Visit listings,,,budget,56.00,72.80");
  await page.getByLabel("Target CPA of Spring courses, search").uncheck();
  await page.getByLabel("Daily budget of Own name, search").uncheck();
  await page.getByRole("button", { name: "Remove selected" }).click();
  await expect(page.getByRole("row", { name: /Visit listings/ })).toHaveCount(0);
});

test("from a verdict to a lower cost", async ({ desk: page }) => {
  // Two weeks pass, each of them fetched from every channel of three accounts.
  test.setTimeout(360_000);
  await page.goto(`${school}/causes`);
  await page.getByRole("link", { name: "Apiary visits, display" }).first().click();
  await expect(page.getByText("It reaches the wrong people.")).toBeVisible();
  // The keyboard does it too.
  await page.waitForLoadState("load");
  await page.keyboard.press("t");
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  await page.goto(`${school}/tray`);
  await page.getByRole("button", { name: "Send selected" }).click();
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();
  await expect(page.getByText(/Last sent: 3 changes were made at Findle and Panewall, in force from 10 Nov 2026/)).toBeVisible();
  await expect(page.getByText("The change tray is empty")).toBeVisible();

  await page.goto(`${school}/logbook`);
  const entry = page.getByRole("row", { name: /Spring courses/ });
  await expect(entry).toContainText("52.00");
  await expect(entry).toContainText("19 Nov");
  await entry.getByText("Evidence as it stood").click();
  await expect(entry).toContainText("Affordable CPC");
  await expectAccessible(page);
  const [calendar] = await Promise.all([page.waitForEvent("download"), page.getByRole("link", { name: "Calendar of look-backs" }).click()]);
  expect(await readFile(await calendar.path(), "utf8")).toContain("DTSTART;VALUE=DATE:20261119");

  const before = [await cpaOf(page, "Spring courses", "2026-10-27", "2026-11-09"), await cpaOf(page, "Apiary visits", "2026-10-27", "2026-11-09")];
  for (let week = 0; week < 2; week++) {
    await page.getByRole("button", { name: /market day/ }).click();
    await page.getByRole("button", { name: "Let a week pass" }).click();
    await expect(page.getByRole("button", { name: `market day ${16 + 7 * week} Nov 2026` })).toBeVisible({ timeout: 150_000 });
  }
  const after = [await cpaOf(page, "Spring courses", "2026-11-10", "2026-11-21"), await cpaOf(page, "Apiary visits", "2026-11-10", "2026-11-21")];
  expect(after[0]).toBeLessThan(before[0] * 0.95);
  expect(after[1]).toBeLessThan(before[1] * 0.75);

  // The look-backs are done: two changes worked, of the third it can’t be told, which waits for somebody.
  await page.goto(`${school}/today`);
  await expect(page.getByText("1 due", { exact: true })).toBeVisible();
  await expect(page.getByText("3 changes were judged: 2 worked, 1 can’t be told")).toBeVisible();
  await page.goto(`${school}/logbook`);
  await expect(page.getByRole("row", { name: /Apiary visits/ })).toContainText(/worked: gained [\d\u202f]+ \(90% between/);
  await page.getByRole("link", { name: "What came of them" }).click();
  await expect(page.getByRole("row", { name: /remedies of Causes/ })).toContainText("+");
  await expectAccessible(page);
  await page.goto(`${school}/logbook?show=due`);
  await expect(page.locator("tbody tr")).toHaveCount(1);
  await expect(page.getByRole("button", { name: "Mark all that can’t be told as reviewed" })).toBeVisible();
  await page.getByRole("button", { name: "Mark as reviewed Daily budget of Own name, search" }).click();
  await expect(page.getByText("No entry matches.")).toBeVisible();
  await page.goto(`${school}/logbook`);
  await page.getByRole("button", { name: "Undo Daily budget of Own name, search" }).click();
  await expect(page.getByRole("row", { name: /Own name, search/ })).toContainText("Undoes the change");
});

test("what the channel refuses stays, with its reason", async ({ desk: page }) => {
  await page.goto(`${supply}/spend`);
  await page.getByLabel("Choose Jars, search").check();
  await page.getByLabel("What").selectOption("bid");
  await page.getByRole("textbox", { name: "to", exact: true }).fill("0.02");
  await page.getByRole("button", { name: "Put in tray" }).click();
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  await page.goto(`${supply}/tray`);
  await expect(page.getByText("Can’t be sent: the channel’s least bid is 0.05")).toBeVisible();
  await page.getByLabel("Bid of Jars, search").check();
  await page.getByRole("button", { name: "Send selected" }).click();
  await expect(page.getByRole("alert")).toContainText("nothing was sent");
  await page.getByLabel("Bid of Jars, search").check();
  await page.getByRole("button", { name: "Remove selected" }).click();
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();
});

test("the week's advice on budgets goes to the tray, and no further by itself", async ({ desk: page }) => {
  // From the letter all of it at once: what it says of the spend is that of all moves together.
  await page.goto(`${supply}/today`);
  const together = page.locator(".todos li").filter({ hasText: "that budgets leave unspent" });
  const said = Number(/for (\d+) a day more of/.exec(await together.textContent())[1]);
  await together.getByRole("button", { name: "Put in tray" }).click();
  await expect(together.getByRole("status")).toContainText(/\d changes were put in the tray\./);
  await page.goto(`${supply}/tray`);
  const bar = await page.getByRole("region", { name: "Change tray" }).last().textContent();
  const more = Number(/expected spend ([+−]?[\d.]+) a day/.exec(bar)[1].replace("−", "-"));
  expect(Math.abs(more - said)).toBeLessThan(1);
  for (const row of await page.locator("tr[data-key]").all()) await row.getByRole("checkbox").check();
  await page.getByRole("button", { name: "Remove selected" }).click();
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();
  await page.goto(`${supply}/budgets`);
  await expect(page.getByRole("heading", { name: "Money better placed this week" })).toBeVisible();
  const rows = page.getByRole("region", { name: "The week’s advice" }).locator("tbody tr");
  const all = await rows.count();
  expect(all).toBeGreaterThan(2);
  const kits = rows.filter({ hasText: "Hive kits, search" });
  const [now, then] = (await kits.locator("td.num").allTextContents()).map((t) => Number(t.replace(/[^0-9.]/g, "")));
  expect(then).toBeGreaterThan(now);
  for (const other of await rows.filter({ hasNotText: "Hive kits, search" }).all()) await other.getByRole("checkbox").uncheck();
  await expectAccessible(page);
  await page.getByRole("button", { name: "Put selected in the tray" }).click();
  await expect(page.getByRole("status").filter({ hasText: "One change was put in the tray." })).toBeVisible();
  await page.goto(`${supply}/tray`);
  const waiting = page.getByRole("row", { name: /Hive kits, search/ });
  await expect(waiting).toContainText("Money brings more here");
  await waiting.getByRole("checkbox").check();
  await page.getByRole("button", { name: "Remove selected" }).click();
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();
});

test("from today to a sent plan in under ten clicks, and each line says why", async ({ desk: page }) => {
  await page.goto(`${school}/today`);
  let clicks = 0;
  const click = (role, name) => { clicks += 1; return page.getByRole(role, { name, exact: true }).click(); };
  await click("link", "Budgets");
  await click("link", "New plan");
  await click("button", "Make the plan");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("reallocated");
  await click("button", "Put its daily budgets in the tray");
  await expect(page.getByRole("status").filter({ hasText: "The month is now measured against this plan." })).toBeVisible();
  clicks += 1;
  await page.goto(`${school}/tray`);
  // What other decisions have left there stays.
  for (const row of await page.locator("tr[data-key]").filter({ hasNotText: "The plan ‘" }).all()) await row.getByRole("checkbox").uncheck();
  const reasons = await page.locator("tr[data-key]").filter({ hasText: "The plan ‘" }).locator("td.why").allTextContents();
  expect(reasons.length).toBeGreaterThan(3);
  for (const reason of reasons) expect(reason).toMatch(/The plan ‘.*’ gives it .* a day(: |\. In )/);
  await expectAccessible(page);
  await click("button", "Send selected");
  await expect(page.locator("tr[data-key]").filter({ hasText: "The plan ‘" })).toHaveCount(0);
  expect(clicks).toBeLessThan(10);
  await page.goto(`${school}/logbook`);
  await expect(page.getByRole("row", { name: /The plan ‘/ }).first()).toBeVisible();
  await page.goto(`${school}/spend/pace`);
  await expect(page.getByText("In gold, the plan.")).toBeVisible();
});

test("channels tell what was fetched, and a wrong connection says what to do", async ({ desk: page }) => {
  await page.goto(`${supply}/channels`);
  await expect(page.getByRole("row", { name: /Findle/ })).toContainText("fetched");
  await Promise.all([page.waitForEvent("load"), page.getByRole("button", { name: "fetch now from Findle" }).click()]);
  // When the fetch has ended the page comes anew, unless somebody has typed something.
  await expect(page.locator("#fetching")).toHaveCount(0, { timeout: 100_000 });
  await page.getByLabel("Address of the interface").fill("http://127.0.0.1:9");
  await page.evaluate(() => {
    const ended = document.createElement("span");
    ended.setAttribute("hx-get", location.pathname.replace(/channels$/, "fetching"));
    ended.setAttribute("hx-trigger", "load");
    document.querySelector("header").append(ended);
    window.htmx.process(ended);
  });
  await expect(page.getByRole("link", { name: "new figures are in" })).toBeVisible();
  await page.getByLabel("Token of the account").fill("wrong");
  await page.getByRole("button", { name: "Connect its channels" }).click();
  await expect(page.getByRole("alert")).toContainText("can’t be reached");
  await expect(page.getByLabel("Address of the interface")).toHaveValue("http://127.0.0.1:9");
  await expectAccessible(page);
});
