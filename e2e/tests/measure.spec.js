// Measure, splits and what is found inside a campaign: what counts is chosen, a split adds up, findings go to the tray.
import { readFile } from "node:fs/promises";
import { expect, expectAccessible, school, supply, test } from "./desk.js";

test("what a campaign counts is tried, applied, and given back", async ({ desk: page }) => {
  await page.goto(`${supply}/measure`);
  const spoiled = page.getByRole("region", { name: "Campaigns whose conversions can’t be trusted" });
  await expect(spoiled.getByRole("row", { name: /Jar listings/ })).toContainText("catalogue view");
  await expect(page.getByRole("link", { name: /Measure/ })).toContainText("Measure");
  await page.getByRole("link", { name: /what it counts.*Jar listings/ }).click();
  await page.getByLabel("These events:").check();
  await page.getByLabel("catalogue view").uncheck();
  await page.getByRole("button", { name: "Compare" }).click();
  const row = page.getByRole("row", { name: /^Conversions/ });
  const both = (await row.getByRole("cell").allInnerTexts()).map((t) => Number(t.replace(/\D/g, "")));
  expect(both[1]).toBeLessThan(both[0] * 0.3);
  await expectAccessible(page);
  // Nothing has changed yet.
  await page.goto(`${supply}/measure`);
  await expect(spoiled.getByRole("row", { name: /Jar listings/ })).toBeVisible();
  await page.goBack();
  await page.getByRole("button", { name: "Apply", exact: true }).click();
  await page.goto(`${supply}/measure`);
  await expect(spoiled.getByRole("row", { name: /Jar listings/ })).toHaveCount(0);
  await page.goto(`${supply}/spend`);
  const jars = await page.getByRole("row", { name: /Jar listings/ }).evaluate((r) => ({ ...r.dataset }));
  expect(Number(jars.conversions)).toBe(both[1]);
  await page.goto(`${supply}/measure`);
  await page.getByRole("region", { name: "What each campaign counts" }).getByRole("link", { name: "Jar listings" }).click();
  await page.getByLabel("Same as the account").check();
  await page.getByRole("button", { name: "Apply", exact: true }).click();
  await page.goto(`${supply}/measure`);
  await expect(spoiled.getByRole("row", { name: /Jar listings/ })).toBeVisible();
  // A choice of nothing is refused, and says why.
  await page.getByLabel("These events:").check();
  for (const event of ["catalogue view", "order"]) await page.getByLabel(event, { exact: true }).uncheck();
  await page.getByRole("button", { name: "Apply", exact: true }).click();
  await expect(page.getByRole("alert")).toContainText("choose at least one event");
});

test("a split adds up to the whole, and is taken away", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  const whole = await page.locator("tbody tr").evaluateAll((rows) => rows.reduce((s, r) => s + Number(r.dataset.spend), 0));
  await page.getByRole("link", { name: "Splits" }).click();
  for (const [by, title] of [["Age", "age"], ["Device", "device"], ["Hour", "hour"]]) {
    await page.getByRole("link", { name: by, exact: true }).click();
    await expect(page.getByRole("heading", { level: 1 })).toHaveText(`Spend by ${title}`);
    const [file] = await Promise.all([page.waitForEvent("download"), page.getByRole("link", { name: "CSV" }).click()]);
    const lines = (await readFile(await file.path(), "utf8")).trim().split("\r\n").slice(1);
    const spend = lines.reduce((s, line) => s + Number(line.split(",")[3]), 0);
    expect(Math.abs(spend - whole)).toBeLessThan(0.02);
  }
  await page.getByLabel("Campaign", { exact: true }).selectOption({ label: "Evening calls, feed" });
  await expect(page).toHaveURL(/campaign=\d+/);
  await expect(page.getByRole("img", { name: "Money above target, by weekday and hour" })).toBeVisible();
});

test("what is found inside a campaign goes to the tray", async ({ desk: page }) => {
  await page.goto(`${school}/causes`);
  await page.getByRole("link", { name: "Queen rearing, feed" }).first().click();
  await page.getByLabel(/^Select: .*, Germany$/).check();
  await expectAccessible(page);
  await page.getByRole("button", { name: "Put selected in the tray" }).click();
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  await page.getByRole("link", { name: "Review and send" }).click();
  const row = page.getByRole("region", { name: "Change tray, opened" }).getByRole("row", { name: /Queen rearing/ });
  await expect(row).toContainText("Germany");
  await page.goto(`${school}/tray`);
  await page.getByRole("button", { name: "Remove selected" }).click();
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();

  await page.goto(`${school}/causes`);
  await page.getByRole("link", { name: "Visit enquiries, search" }).first().click();
  const waste = page.getByRole("region", { name: "Searches that cost money without a conversion" });
  await expect(waste.getByRole("row", { name: /sting/ })).toContainText("negative keyword, phrase");
  await expect(page.getByRole("region", { name: "Searches worth a keyword" })).toContainText(/team building with bees|company day at the apiary|staff outing beekeeper/);
  await page.getByRole("button", { name: "Mark the searches as reviewed" }).click();
  await expect(page.getByRole("button", { name: "Mark the searches as reviewed" })).toHaveCount(0);
});
