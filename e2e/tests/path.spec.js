// The main path: sign in, import a report with bad rows, see Spend, read a verdict, make and mend a plan, take it away.
import { readFile } from "node:fs/promises";
import { expect, expectAccessible, norge, school, test } from "./desk.js";

const header = "date,channel,campaign,ad_group,kind,item,match_type,impressions,clicks,spend,conversions,value,currency\n";
const day = (d, clicks, spend) => `2026-11-${d},Findle,Vinterkurs,Kurs,keyword,vinterkurs,exact,${clicks * 30},${clicks},${spend},1,900,NOK\n`;

test("a report with two bad rows is imported without them, seen, and undone", async ({ desk: page }) => {
  await page.goto(`${norge}/reports`);
  const bad = "2026-11-31,Findle,Vinterkurs,Kurs,keyword,vinterkurs,exact,30,1,2,0,0,NOK\n" + "2026-11-05,Findle,Vinterkurs,Kurs,keyword,vinterkurs,exact,30,1,2,0,0,SEK\n";
  const text = header + day("06", 20, "190.50") + day("07", 24, "210") + bad;
  await page.getByLabel("Report file (CSV)").setInputFiles({ name: "vinter.csv", mimeType: "text/csv", buffer: Buffer.from(text) });
  await page.getByRole("button", { name: "Upload" }).click();
  await expect(page.getByRole("heading", { name: "How this file is read" })).toBeVisible();
  await expect(page.getByLabel("Meaning of spend")).toHaveValue("spend");
  await expectAccessible(page);
  await page.getByRole("button", { name: "Import", exact: true }).click();
  await expect(page.getByText("2 errors.")).toBeVisible();
  await expect(page.getByRole("cell", { name: "a date such as 2026-11-09" })).toBeVisible();
  await expect(page.getByRole("cell", { name: "NOK, the account’s currency" }).or(page.getByRole("cell", { name: "NOK, the account's currency" }))).toBeVisible();
  const [errors] = await Promise.all([page.waitForEvent("download"), page.getByRole("link", { name: "all as CSV" }).click()]);
  expect(await readFile(await errors.path(), "utf8")).toContain("4,date,2026-11-31,a date such as 2026-11-09");
  await page.getByRole("button", { name: "Import the good rows" }).click();
  await expect(page.getByText("Imported.")).toBeVisible();
  await expectAccessible(page);
  await page.getByRole("link", { name: "See Spend" }).click();
  const row = page.getByRole("row", { name: /Vinterkurs/ });
  await expect(row).toContainText("401");
  await expect(row).toContainText("44");
  await page.goBack();
  await page.getByRole("button", { name: "Undo this import" }).click();
  await expect(page.getByText("This import was undone.")).toBeVisible();
  await page.goto(`${norge}/spend`);
  await expect(page.getByRole("row", { name: /Vinterkurs/ })).toHaveCount(0);
});

test("from the worst campaign to a plan that is taken away", async ({ desk: page }) => {
  await page.goto(`${school}/spend`);
  await expect(page.getByRole("heading", { name: "Spend" })).toBeVisible();
  const worst = page.locator("tbody tr").first();
  await expect(worst).toContainText("pays too much per click");
  await worst.getByRole("link", { name: "Spring courses, search" }).first().click();
  await expect(page.getByText("It pays too much per click.")).toBeVisible();
  await expect(page.getByText("above target").first()).toBeVisible();
  await expect(page.getByText(/toward what is affordable, by bidding 19% less/)).toBeVisible();
  await expect(page.getByText(/The account (as a whole )?(meets|misses) its target/)).toBeVisible();

  await page.getByRole("link", { name: "Budgets" }).click();
  await page.getByRole("link", { name: "New plan" }).click();
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("Winter plan");
  await page.getByRole("button", { name: "Make the plan" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("reallocated");

  // Floors above the total contradict it; a repair mends that in one click.
  await page.getByLabel("Move at most ±").fill("");
  await page.getByLabel("Floor of Spring courses, search").fill("30 000");
  await page.getByLabel("Floor of Apiary visits, display").fill("20*500");
  await page.getByLabel("Floor of Apiary visits, display").press("Tab");
  await expect(page.getByText("Limits contradict each other.")).toBeVisible();
  await expect(page.getByText(/adds up to 4\d.\d{3}/)).toBeVisible();
  await page.getByRole("button", { name: "Lower floors" }).click();
  await expect(page.getByText("Limits contradict each other.")).toHaveCount(0);
  await page.getByLabel("Floor of Spring courses, search").fill("2000");
  await page.getByLabel("Floor of Apiary visits, display").fill("");
  await page.getByLabel("Floor of Apiary visits, display").press("Tab");
  // A line gets no more than it can spend, and says so.
  await expect(page.getByRole("row", { name: /^Own name, search/ }).last()).toContainText("is all it can spend");
  await page.getByLabel("How Own name, search answers to money").selectOption("power");
  await expect(page.getByLabel("Elasticity of Own name, search")).toHaveValue("0.7");
  await page.getByLabel("Ceiling of Course names, search").fill("much");
  await page.getByLabel("Ceiling of Course names, search").press("Tab");
  await expect(page.getByText("‘much’ is not a number")).toBeVisible();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("One entry can’t be used");
  await expect(page.getByLabel("Ceiling of Course names, search")).toHaveValue("much");
  await page.getByLabel("Ceiling of Course names, search").fill("6 000");
  await page.getByLabel("Ceiling of Course names, search").press("Tab");
  // What is edited while an answer is still on its way counts.
  let letGo;
  const held = new Promise((resolve) => { letGo = resolve; });
  await page.route("**/solve", async (route) => { await held; await route.continue().catch(() => {}); }, { times: 1 });
  await page.getByRole("button", { name: "Recalculate" }).click();
  const floor = page.getByLabel("Floor of Visit listings");
  await floor.fill("1234");
  await floor.press("Tab");
  letGo();
  await expect(page.locator("#plan.htmx-request")).toHaveCount(0);
  await expect(floor).toHaveValue("1234");
  await expect(page.getByText("not saved")).toBeVisible();
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByText("not saved")).toHaveCount(0);
  await page.reload();
  await expect(page.getByLabel("Floor of Spring courses, search")).toHaveValue("2000");
  await expect(page.getByLabel("Floor of Visit listings")).toHaveValue("1234");

  const take = async (name) => {
    const [file] = await Promise.all([page.waitForEvent("download"), page.getByRole("link", { name, exact: true }).click()]);
    return readFile(await file.path(), "utf8");
  };
  const plan = JSON.parse(await take("JSON"));
  expect(plan.format).toBe("gold-tiller/plan@1");
  const rows = (await take("CSV")).trim().split("\r\n").slice(1).map((line) => line.match(/("[^"]*"|[^,]*)(,|$)/g).map((f) => f.replace(/,$/, "").replace(/"/g, "")));
  const budgets = rows.reduce((sum, row) => sum + Number(row[5]), 0);
  expect(Math.abs(budgets - plan.total.amount)).toBeLessThan(0.005);

  await page.getByRole("button", { name: "Duplicate" }).click();
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveValue("Winter plan, copy");
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("Spring plan");
  await page.getByLabel("Total", { exact: true }).fill("−10%");
  await page.getByRole("button", { name: "Save" }).click();
  await page.getByRole("link", { name: "compare with another" }).click();
  await page.getByLabel("the other").selectOption({ label: "Winter plan" });
  await page.getByRole("button", { name: "Compare" }).click();
  await expect(page.getByRole("columnheader", { name: "Winter plan" })).toBeVisible();
  await expect(page.getByRole("columnheader", { name: "Spring plan" })).toBeVisible();
});
