// Budgets: curves that are dragged, the best of every total, a campaign's curve, days, ad groups and hours, the pace
// of the month. Nothing is sent here, so that the other files find the accounts as they were.
import { expect, expectAccessible, school, supply, test } from "./desk.js";

const number = (text) => Number(text.replace(/−/g, "-").replace(/[^0-9.-]/g, ""));

async function newPlan(page, account) {
  await page.goto(`${account}/budgets/new`);
  await page.getByRole("button", { name: "Make the plan" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("reallocated");
}

async function emptyTray(page, account) {
  await page.goto(`${account}/tray`);
  for (const box of await page.locator("input[name=change]").all()) await box.check();
  await page.getByRole("button", { name: "Remove selected" }).click();
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();
}

const planned = async (page, name) => number(await page.getByRole("slider", { name: `Money for ${name}`, exact: true }).getAttribute("aria-valuenow"));

test("a handle is dragged, and the rest follows within the total", async ({ desk: page }) => {
  await newPlan(page, school);
  const [mine, other] = ["Course names, search", "Visit enquiries, search"];
  const all = page.getByRole("slider", { name: /^Money for/ });
  const sum = async () => (await all.evaluateAll((handles) => handles.map((h) => Number(h.getAttribute("aria-valuenow"))))).reduce((a, b) => a + b, 0);
  const [before, total] = [await planned(page, mine), await sum()];
  const handle = page.getByRole("slider", { name: `Money for ${mine}` });
  const box = await handle.boundingBox();
  await page.mouse.move(box.x + box.width / 2, box.y + box.height / 2);
  await page.mouse.down();
  for (const dx of [-4, -8, -12]) await page.mouse.move(box.x + box.width / 2 + dx, box.y + box.height / 2);
  await page.mouse.up();
  await expect(handle).toHaveAttribute("aria-valuetext", /set by hand/);
  await expect.poll(() => planned(page, mine)).toBeLessThan(before - 200);
  // Each is rounded to a whole unit.
  expect(Math.abs((await sum()) - total)).toBeLessThan(await all.count());
  await expect(page.getByText("not saved")).toBeVisible();
  await expect(page.getByText(`Amount set for ${mine}`)).toBeVisible();
  await expect(page.getByLabel(`Money set by hand for ${mine}`)).not.toHaveValue("");

  // By keyboard: a hundredth of the axis a step; Delete lets the plan decide again.
  const dragged = await planned(page, mine);
  await handle.focus();
  await page.keyboard.press("ArrowLeft");
  await expect.poll(() => planned(page, mine)).toBeLessThan(dragged);
  await expect(handle).toBeFocused();
  await page.keyboard.press("Delete");
  await expect(handle).not.toHaveAttribute("aria-valuetext", /set by hand/);
  await expect.poll(() => planned(page, mine)).toBe(before);

  // Further than the others can take, it says so, and the handle is still there to be moved back.
  await handle.focus();
  await expect(async () => {
    await page.keyboard.press("PageDown");
    await expect(page.getByText("Limits contradict each other.")).toBeVisible({ timeout: 2_000 });
  }).toPass();
  await expect(handle).toBeFocused();
  await page.keyboard.press("Delete");
  await expect(page.getByText("Limits contradict each other.")).toHaveCount(0);
  await expect.poll(() => planned(page, mine)).toBe(before);

  // A handle stops at its bracket.
  await page.getByLabel(`Ceiling of ${other}`).fill("3 700");
  await page.getByLabel(`Ceiling of ${other}`).press("Tab");
  const bounded = page.getByRole("slider", { name: `Money for ${other}` });
  await expect.poll(() => planned(page, other)).toBeLessThanOrEqual(3700);
  await bounded.focus();
  await page.keyboard.press("PageUp");
  await expect(bounded).toHaveAttribute("aria-valuetext", /set by hand/);
  expect(await planned(page, other)).toBe(3700);
  await expectAccessible(page);
});

test("other totals, shares for groups and for tests, and each line says why", async ({ desk: page }) => {
  await newPlan(page, supply);
  const before = number(await page.getByLabel("Total", { exact: true }).inputValue());
  const total = page.getByRole("slider", { name: "Total of the plan" });
  await total.focus();
  await page.keyboard.press("PageDown");
  await expect.poll(async () => number(await page.getByLabel("Total", { exact: true }).inputValue())).toBeLessThan(before);
  await page.getByLabel("Total", { exact: true }).fill(String(before));
  await page.getByLabel("For tests").fill("10%");
  await page.getByLabel("For tests").press("Tab");
  await page.getByLabel("Spend", { exact: true }).selectOption("up_to");
  await page.getByLabel("Move at most ±").fill("");
  await page.getByLabel("Move at most ±").press("Tab");
  await expect(page.getByText(/are kept for tests and not split/)).toBeVisible();
  await page.getByLabel("Ceiling of the group Findle").fill("20%");
  await page.getByLabel("Ceiling of the group Findle").press("Tab");
  await expect(page.getByText("Ceiling of the group Findle", { exact: true })).toBeVisible();
  const lines = page.getByRole("region", { name: "Lines of the plan" }).locator("tbody tr");
  for (const why of await lines.locator("td.why").allTextContents()) expect(why.trim()).not.toBe("");
  await page.getByLabel("Grouped").selectOption("country");
  await expect(page.getByLabel("Ceiling of the group Findle")).toHaveCount(0);
  // The least money for so many conversions.
  await page.getByLabel("Goal").selectOption("least_spend");
  await page.getByLabel("Conversions ≥").fill("800");
  await page.getByLabel("Conversions ≥").press("Tab");
  await expect(page.getByText(/conversions would take/)).toBeVisible();
  await page.getByLabel("Conversions ≥").fill("800000");
  await page.getByLabel("Conversions ≥").press("Tab");
  await expect(page.getByText(/No split brings 800.000/)).toBeVisible();
  await expectAccessible(page);
});

test("a plan's figures open their working, as the plan stands in the form", async ({ desk: page }) => {
  await newPlan(page, supply);
  const plan = page.url();
  const line = page.getByRole("region", { name: "Lines of the plan" }).locator("tbody tr").filter({ hasText: "Suits, search" });
  const working = page.getByRole("dialog", { name: "Working of the figure" });
  const value = (title) => working.locator("dt", { hasText: title }).locator("xpath=following-sibling::dd[1]").textContent().then(number);
  const brought = line.locator("button[value^=results-]");
  await brought.click();
  await expect(working).toContainText("to the power of the elasticity");
  // Recomputed: days × level × (money a day) ^ elasticity × value of a conversion.
  const recomputed = (await value("Days")) * (await value("Level")) * (await value("Money a day")) ** (await value("Elasticity")) * (await value("Value of a conversion"));
  expect(Math.abs(recomputed / number(await brought.textContent()) - 1)).toBeLessThan(0.01);
  await expectAccessible(page);
  await page.keyboard.press("Escape");
  await expect(working).toBeHidden();
  await expect(brought).toBeFocused();

  // Typed and not saved: Enter answers where it is, and the working is of what is typed.
  const field = page.getByLabel("Money set by hand for Suits, search");
  await field.fill("2 100");
  await field.press("Enter");
  await expect(line).toContainText("set by hand");
  expect(page.url()).toBe(plan);
  await expect(page.getByText("The change tray is empty")).toBeVisible();
  await brought.press("Enter");
  await expect(working).toContainText("2\u202f100 EUR");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "How we know" }).click();
  await expect(working).toContainText("worlds were drawn");
  await page.keyboard.press("Escape");
  // Beside a typo they open as well, and what is typed stays.
  const total = page.getByLabel("Total", { exact: true });
  await total.fill("lots");
  await total.press("Tab");
  await expect(page.getByText("‘lots’ is not a number")).toBeVisible();
  await brought.click();
  await expect(working).toContainText("What it brings");
  await page.keyboard.press("Escape");
  await expect(total).toHaveValue("lots");
  await total.fill("14 900");
  await total.press("Tab");
  await expect(page.getByText("‘lots’ is not a number")).toHaveCount(0);
  // Every panel counts what the plan is for.
  await expect(page.getByText(/of value up\./)).toBeVisible();
  await page.getByLabel("Goal").selectOption("clicks");
  await expect(page.getByText(/clicks up\./)).toBeVisible();
});

test("a campaign's curve, with what would sharpen it; an experiment waits in the tray", async ({ desk: page }) => {
  await page.goto(`${school}/budgets`);
  await page.getByRole("region", { name: "Campaigns and their money" }).getByRole("link", { name: "Course names, search" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("Course names, search");
  await expect(page.getByRole("img", { name: /Conversions a day by EUR a day/ })).toBeVisible();
  await expect(page.getByRole("img", { name: /How far each day lies off the curve/ })).toBeVisible();
  await expect(page.getByRole("row", { name: /^Elasticity/ })).toContainText("±");
  await expectAccessible(page);
  await page.getByRole("button", { name: "Put the experiment in the tray" }).click();
  await expect(page.getByRole("status").filter({ hasText: "the others follow by themselves" })).toBeVisible();
  await page.goto(`${school}/budgets`);
  await expect(page.getByRole("row", { name: /Course names, search step experiment/ })).toContainText("its first step waits in the tray");
  await page.getByRole("button", { name: "Stop the step experiment of Course names, search" }).click();
  await expect(page.getByRole("row", { name: /Course names, search step experiment/ })).toContainText("stopped");
  // Its first step went with it.
  await page.goto(`${school}/tray`);
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();
});

test("lifts are previewed day by day, and ad groups get their test", async ({ desk: page }) => {
  await page.goto(`${school}/budgets`);
  const row = page.getByRole("region", { name: "Campaigns and their money" }).getByRole("row", { name: /Neighbours, feed/ });
  await row.getByRole("link", { name: "days" }).click();
  const main = page.getByRole("main");
  await main.getByLabel("From").first().fill("2026-11-20");
  await main.getByLabel("to", { exact: true }).first().fill("2026-11-22");
  await page.getByLabel("by", { exact: true }).fill("50%");
  await page.getByRole("button", { name: "Preview" }).click();
  await expect(page.getByRole("row", { name: /21 Nov/ })).toContainText("96.00, lifted");
  await expect(page.getByRole("row", { name: /23 Nov/ })).toContainText("64.00");
  await expect(page.getByText("96.00 more in all.")).toBeVisible();
  await expectAccessible(page);
  await page.getByRole("button", { name: "Set this lift" }).click();
  await expect(page.getByRole("row", { name: /budget lift/ })).toContainText("96.00 a day from 20 Nov");
  await page.getByRole("button", { name: /Stop the budget lift/ }).click();
  await expect(page.getByRole("row", { name: /Neighbours, feed budget lift/ })).toContainText("stopped");

  await page.goto(`${supply}/budgets`);
  const pictures = page.getByRole("region", { name: "Campaigns and their money" }).getByRole("row", { name: /New pictures, feed/ });
  await pictures.getByRole("link", { name: "ad groups" }).click();
  await expect(page.getByRole("row", { name: /winter work/ })).toContainText("give it at least");
  await expectAccessible(page);
  await page.getByRole("button", { name: "Put selected in the tray" }).click();
  await expect(page.getByRole("status").filter({ hasText: "One change was put in the tray." })).toBeVisible();
  for (const size of await page.getByPlaceholder("people").all()) await size.fill("4 000");
  await page.getByRole("button", { name: "Split", exact: true }).click();
  await expect(page.getByText("13.34 a day")).toBeVisible();
  await expect(page.getByText("13.33 a day")).toHaveCount(2);
  await page.getByPlaceholder("people").first().fill("nobody");
  await page.getByRole("button", { name: "Split", exact: true }).click();
  await expect(page.getByRole("alert")).toContainText("‘nobody’ is not a number");
  await emptyTray(page, supply);
});

test("the week of hours is painted, filled and put in the tray", async ({ desk: page }) => {
  await page.goto(`${school}/budgets`);
  const campaigns = page.getByRole("region", { name: "Campaigns and their money" });
  await campaigns.getByRole("row", { name: /Visit enquiries, search/ }).getByRole("link", { name: "hours" }).click();
  await expect(page.getByText(/On 28 Mar 2027 clocks change/)).toBeVisible();
  const hour = (name) => page.getByRole("textbox", { name, exact: true });
  const [from, to] = [await hour("Mon 2:00").boundingBox(), await hour("Mon 5:00").boundingBox()];
  await page.mouse.move(from.x + 8, from.y + 8);
  await page.mouse.down();
  await page.mouse.move(to.x + 8, to.y + 8, { steps: 12 });
  await page.mouse.up();
  for (const h of [2, 3, 4, 5]) await expect(hour(`Mon ${h}:00`)).toHaveValue("off");
  await expect(hour("Mon 6:00")).toHaveValue("");
  await hour("Sun 23:00").fill("-30");
  await hour("Sun 22:00").fill("noon");
  await page.getByRole("button", { name: "Put these hours in the tray" }).click();
  await expect(page.getByRole("alert")).toContainText("Sun 22:00: ‘noon’ is neither empty, off");
  await hour("Sun 22:00").fill("");
  await expectAccessible(page);
  await page.getByRole("button", { name: "Put these hours in the tray" }).click();
  await expect(page.getByRole("status").filter({ hasText: "One change was put in the tray." })).toBeVisible();
  await page.goto(`${school}/tray`);
  await expect(page.getByRole("row", { name: /Visit enquiries, search/ })).toContainText("164 of 168 hours");
  await emptyTray(page, school);

  // By another clock, and from office hours; nothing is sent by that.
  await page.goto(`${school}/budgets`);
  await campaigns.getByRole("row", { name: /Visit enquiries, search/ }).getByRole("link", { name: "hours" }).click();
  await page.getByRole("button", { name: "Fill with those hours" }).click();
  await expect(page.getByRole("status").filter({ hasText: "Filled with the hours in which somebody answers" })).toBeVisible();
  await expect(hour("Mon 9:00")).toHaveValue("");
  await expect(hour("Mon 17:00")).toHaveValue("off");
  await expect(hour("Sat 9:00")).toHaveValue("off");
  await page.getByLabel("Time zone").fill("America/New_York");
  await page.getByRole("button", { name: "Show", exact: true }).click();
  await expect(page.getByText(/Shown in America\/New_York time, −6 hours/)).toBeVisible();
  await page.getByLabel("Time zone").fill("Nowhere");
  await page.getByRole("button", { name: "Show", exact: true }).click();
  await expect(page.getByText(/‘Nowhere’ is no time zone/)).toBeVisible();
  await expect(page.getByLabel("Time zone")).toHaveValue("Nowhere");
  await expect(hour("Mon 9:00")).toBeVisible();
  // A channel that takes hours with a lifetime budget only says so.
  await page.goto(`${school}/budgets`);
  await campaigns.getByRole("row", { name: /Evening calls, feed/ }).getByRole("link", { name: "hours" }).click();
  await expect(page.getByText(/accepts hours only with a lifetime budget/)).toBeVisible();
});

test("the month follows a plan, and what is needed goes to the tray", async ({ desk: page }) => {
  await newPlan(page, school);
  await page.goto(`${school}/today`);
  await page.getByRole("link", { name: "Pace", exact: true }).click();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("The pace of November");
  await expect(page.getByRole("img", { name: /November’s spend, EUR/ })).toBeVisible();
  const table = page.getByRole("region", { name: "Pace by channel and campaign" });
  const cells = async (name) => (await table.getByRole("row", { name }).first().locator("td.num").allTextContents()).map(number);
  const sums = await table.locator("tr.level-campaign").evaluateAll((rows) => rows.map((r) => Number(r.querySelector("td.num").textContent.replace(/[^0-9.]/g, ""))));
  expect(Math.abs(sums.reduce((a, b) => a + b, 0) - (await cells(/Amberfold School/))[0])).toBeLessThan(sums.length);
  await page.getByLabel("Where nothing is typed").selectOption({ index: 1 });
  await page.getByRole("button", { name: "Compare with it" }).click();
  await expect(page.getByText("In gold, the plan.")).toBeVisible();
  await expect(page.getByText(/the plan ‘Plan of/)).toBeVisible();
  await expectAccessible(page);
  await page.getByRole("link", { name: "Findle" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("The pace of November: Findle");
  const taken = table.getByRole("checkbox");
  if (await taken.count()) {
    await taken.first().check();
    await page.getByRole("button", { name: "Put the needed budgets in the tray" }).click();
    await expect(page.getByText(/put in the tray|whose daily budget is off/).first()).toBeVisible();
  }
  await page.getByLabel("Where nothing is typed").selectOption("");
  await page.getByRole("button", { name: "Compare with it" }).click();
  await expect(page.getByText("In gold, the plan.")).toHaveCount(0);
  // A month's budget is typed; what can't be read is kept and explained.
  await page.getByLabel("The account", { exact: true }).fill("plenty");
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await expect(page.getByRole("alert")).toContainText("is not a number");
  await expect(page.getByLabel("The account", { exact: true })).toHaveValue("plenty");
  await expectAccessible(page);
  await page.getByLabel("The account", { exact: true }).fill("40 000");
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await expect(page.getByText(/the month’s budget/).first()).toBeVisible();
  await page.getByLabel("The account", { exact: true }).fill("");
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await page.goto(`${school}/tray`);
  if (await page.locator("input[name=change]").count()) await emptyTray(page, school);
});
