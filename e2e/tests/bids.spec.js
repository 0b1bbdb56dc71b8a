// Bids: who pays too much for a click, the next step and several of them, bid against volume, strategies by their
// table, targets that follow a product line. Nothing is sent here, and what is decided is taken back.
import { expect, expectAccessible, school, supply, test } from "./desk.js";

const number = (text) => Number(text.replace(/−/g, "-").replace(/[^0-9.-]/g, ""));

async function emptyTray(page, account) {
  await page.goto(`${account}/tray`);
  for (const box of await page.locator("input[name=change]").all()) await box.check();
  await page.getByRole("button", { name: "Remove selected" }).click();
  await expect(page.getByText("Nothing waits to be sent.")).toBeVisible();
}

test("who pays too much is seen at a glance, and its steps go to the tray", async ({ desk: page }) => {
  await page.goto(`${school}/bids`);
  await expect(page.locator("p.lead-in")).toContainText("pay more for a click than their targets afford");
  await expectAccessible(page);
  // The picture by keyboard: each circle tells what it is, and opens its campaign.
  const spring = page.locator("svg.afforded a[data-readout^='Spring courses']").first();
  await spring.focus();
  await expect(page.locator("#readout")).toContainText("its target affords 7.50");
  const film = page.locator("svg.afforded a[data-readout^='Hive tour, film']").first();
  await film.focus();
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "Hive tour, film" })).toBeVisible();
  await page.goto(`${school}/bids`);
  // The row of the table says the same as the panel.
  const row = page.locator("tr.is-here");
  await expect(row).toContainText("Spring courses, search");
  await expect(row).toContainText("Target CPA to 42.12");
  await page.getByRole("button", { name: "Put the steps in the tray" }).click();
  await expect(page.getByText("The later steps follow by themselves.")).toBeVisible();
  await page.goto(`${school}/tray`);
  await expect(page.getByText("each with its look-back")).toBeVisible();
  await page.goto(`${school}/bids`);
  await expect(page.locator("tr", { hasText: "Spring courses, search" }).last()).toContainText("waits in the tray");
  await emptyTray(page, school);
});

test("many bids are set at once, and rows can be found, sorted and chosen by keyboard", async ({ desk: page }) => {
  await page.goto(`${supply}/bids?level=items`);
  await page.getByLabel("Filter by name").fill("hive");
  await expect(page).toHaveURL(/q=hive/);
  const rows = page.locator("#seen tbody tr");
  await expect.poll(() => rows.count()).toBeGreaterThan(1);
  await page.keyboard.press("Escape");
  await page.goto(`${supply}/bids?level=items&q=hive+kits&sort=-spend`);
  // An item is looked at with its click ladder, on the station itself.
  await page.locator("tbody th a").first().click();
  await expect(page.getByRole("heading", { name: "What one conversion takes" })).toBeVisible();
  await expectAccessible(page);
  await page.goto(`${supply}/bids?level=items&q=hive+kits&sort=-spend`);
  await page.locator("body").press("j");
  await page.keyboard.press("x");
  await page.keyboard.press("j");
  await page.keyboard.press("x");
  await expect(page.locator("input.choose:checked")).toHaveCount(2);
  await page.getByLabel("What", { exact: true }).selectOption("bid");
  await page.getByRole("textbox", { name: "to", exact: true }).fill("-5%");
  await page.getByRole("button", { name: "Put in tray" }).last().click();
  await expect(page.getByText("2 changes were put in the tray.")).toBeVisible();
  await expectAccessible(page);
  await emptyTray(page, supply);
});

test("a return asked for that is too high is lowered from here", async ({ desk: page }) => {
  await page.goto(`${supply}/bids`);
  const row = page.locator("tr", { hasText: "Smokers, search" });
  await expect(row).toContainText("Target ROAS to 7.14");
  await row.getByRole("link", { name: "Smokers, search", exact: true }).click();
  await expect(page.getByText("the next conversion would still meet the target")).toBeVisible();
  await page.getByRole("button", { name: "Put in tray" }).first().click();
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  await emptyTray(page, supply);
});

test("another bid is looked at before it is set", async ({ desk: page }) => {
  await page.goto(`${school}/bids`);
  await page.getByRole("link", { name: "Bid against volume" }).click();
  await expect(page.getByText("At a target CPA of 52.00 a conversion costs")).toBeVisible();
  await expectAccessible(page);
  const field = page.getByLabel("Look at a target CPA of");
  const handle = page.getByRole("slider");
  const box = await handle.boundingBox();
  await page.mouse.move(box.x + box.width / 2, box.y + box.height / 2);
  await page.mouse.down();
  for (const dx of [-30, -60, -90]) await page.mouse.move(box.x + box.width / 2 + dx, box.y + box.height / 2);
  await page.mouse.up();
  await expect.poll(async () => number(await field.inputValue())).toBeLessThan(46);
  await expect(page.getByRole("button", { name: "Put this target CPA in the tray" })).toBeVisible();
  const dragged = number(await field.inputValue());
  await handle.focus();
  // Its answer brings the field anew: what is typed before it comes would be gone.
  const answered = page.waitForResponse((r) => r.url().includes(`bid=${(dragged + 0.1).toFixed(2)}`));
  await page.keyboard.press("ArrowRight");
  await expect.poll(async () => number(await field.inputValue())).toBeCloseTo(dragged + 0.1, 5);
  await answered;
  await expect(handle).toBeFocused();
  await field.fill("-10%");
  await field.press("Tab");
  await expect(field).toHaveValue("46.80");
  await page.getByRole("button", { name: "Put this target CPA in the tray" }).click();
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  // One thing at a time: the tray sends neither of two changes to one target.
  await page.getByRole("button", { name: "Put the experiment in the tray" }).click();
  await expect(page.getByText("The others follow by themselves once it has been made.")).toBeVisible();
  await page.goto(`${school}/tray`);
  await expect(page.getByText("another change in the tray sets the same thing").first()).toBeVisible();
  await emptyTray(page, school);
});

test("strategies are advised by a table, and by what only a person knows", async ({ desk: page }) => {
  await page.goto(`${school}/bids/strategies`);
  await expect(page.getByText("No strategy is out of place.")).toBeVisible();
  await expectAccessible(page);
  await page.getByRole("link", { name: "Hive tour, film" }).click();
  const first = page.locator("ol.ranked li").first();
  await expect(first).toContainText("Target CPA");
  await expectAccessible(page);
  await page.getByLabel("It is run for").selectOption("awareness");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(first).toContainText("Manual CPM");
  await page.getByLabel("It is run for").selectOption("");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(first).toContainText("Target CPA");
  await first.getByRole("button", { name: "Put in tray" }).click();
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  await page.goto(`${school}/tray`);
  await expect(page.getByText("will be learning for about")).toBeVisible();
  await emptyTray(page, school);
  // The table itself: a limit that can't be read loses nothing.
  await page.goto(`${school}/bids/strategies/table`);
  await expectAccessible(page);
  await page.getByLabel("Conversions in 30 days, row 4").fill("a few");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(page.getByRole("alert")).toContainText("‘a few’ is no limit");
  await expect(page.getByLabel("Conversions in 30 days, row 4")).toHaveValue("a few");
  await page.getByLabel("Conversions in 30 days, row 4").fill("under 15");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(page.getByText("This table is the account’s own.")).toBeVisible();
  await page.getByRole("button", { name: "Back to the shipped table" }).click();
  await expect(page.getByText("ships with: common practice")).toBeVisible();
});

test("a target follows its product line", async ({ desk: page }) => {
  await page.goto(`${school}/targets/lines`);
  // Tried first, by keyboard: nothing is saved, and what was tried stands in the last row.
  await page.getByLabel("price", { exact: true }).focus();
  await page.keyboard.type("120");
  await page.keyboard.press("Tab");
  await page.keyboard.type("40%");
  await page.keyboard.press("Tab");
  await page.keyboard.type("15%");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("row", { name: "It breaks even at 48.00 2.50 40.0%" })).toBeVisible();
  await expect(page.getByRole("row", { name: "It keeps 15.0% at 30.00 4.00 25.0%" })).toBeVisible();
  await expect(page.getByLabel("Price, row 1")).toHaveValue("120");
  await expectAccessible(page);
  await page.getByLabel("Name, row 1").fill("Weekend courses");
  await page.getByLabel("Price, row 1").fill("120");
  await page.getByLabel("Margin, row 1").fill("40%");
  await page.getByLabel("Share to keep, row 1").fill("50%");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(page.getByRole("alert")).toContainText("leaves nothing for advertising");
  await page.getByLabel("Share to keep, row 1").fill("15%");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(page.getByRole("row", { name: /48\.00.*2\.50.*40\.0%.*CPA 30\.00/ })).toBeVisible();
  await expectAccessible(page);
  await page.goto(`${school}/targets`);
  await page.getByRole("link", { name: "CPA 30.00 target of Spring courses, search" }).click();
  await page.getByLabel("As a product line affords").check();
  await page.getByLabel("Product line", { exact: true }).selectOption("Weekend courses");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(page.getByRole("row", { name: /Spring courses, search/ })).toContainText("as Weekend courses");
  await expectAccessible(page);
  // As it was: the campaign follows the account, and the line is gone.
  await page.getByRole("link", { name: "CPA 30.00 target of Spring courses, search" }).click();
  await page.getByLabel(/Follow the account/).check();
  await page.getByRole("button", { name: "Apply" }).click();
  await page.goto(`${school}/targets/lines`);
  await page.getByLabel("Name, row 1").fill("");
  await page.getByRole("button", { name: "Apply" }).click();
  await expect(page.getByLabel("Name, row 1")).toHaveValue("");
});

test("a strategy is shared, and the tray tells beforehand what that changes for each", async ({ desk: page }) => {
  await page.goto(`${supply}/bids`);
  await page.getByRole("link", { name: "Shared", exact: true }).click();
  await expect(page.getByText("No campaigns share a strategy.")).toBeVisible();
  await expectAccessible(page);
  // By keyboard alone.
  await page.getByLabel("Choose Smokers, search").focus();
  await page.keyboard.press("Space");
  await page.getByLabel("Choose Suits, search").focus();
  await page.keyboard.press("Space");
  await page.getByLabel("Share as").focus();
  await page.keyboard.type("Safety");
  await page.keyboard.press("Enter");
  await expect(page.getByText("2 changes were put in the tray.")).toBeVisible();
  await page.goto(`${supply}/tray`);
  await expect(page.getByText("joining takes it from most value to target ROAS 8.50")).toBeVisible();
  await expect(page.getByText("its strategy will be learning for about")).toBeVisible();
  await expectAccessible(page);
  await emptyTray(page, supply);
  // Of two channels nothing is shared.
  await page.goto(`${supply}/bids/shared`);
  await page.getByLabel("Choose Smokers, search").check();
  await page.getByLabel("Choose Stall, hives").check();
  await page.getByLabel("Share as").fill("Safety");
  await page.getByRole("button", { name: "Put in tray" }).click();
  await expect(page.getByText("A strategy is shared within one channel; choose campaigns of one.")).toBeVisible();
});

test("what a campaign would bring is estimated before there is one", async ({ desk: page }) => {
  await page.goto(`${school}/bids`);
  await page.getByRole("link", { name: "Estimate", exact: true }).click();
  await expectAccessible(page);
  await page.getByLabel("Channel").selectOption("Findle");
  await page.getByLabel("Shows by").selectOption("Keywords");
  await page.getByLabel("Bids by").selectOption("Manual CPC");
  await page.getByLabel("Bid, or highest bid").fill("5");
  await page.getByLabel("Budget a day").fill("many");
  await page.getByRole("button", { name: "Estimate" }).click();
  await expect(page.getByRole("alert")).toContainText("Budget");
  await expect(page.getByLabel("Budget a day")).toHaveValue("many");
  await page.getByLabel("Budget a day").fill("150");
  await page.getByText("Only some, by device").click();
  await page.getByLabel("phone").check();
  await page.getByRole("button", { name: "Estimate" }).click();
  await expect(page.locator("p.lead-in")).toContainText("conversions at");
  await expect(page.getByText("The channel advises bids of")).toBeVisible();
  await expect(page.getByLabel("phone")).toBeChecked();
  await expectAccessible(page);
  // CPA = CPC ÷ CVR and spend = clicks × CPC: the middle of each range agrees with the others.
  const middle = async (title) => {
    const cell = page.locator("tr", { has: page.getByRole("rowheader", { name: title, exact: true }) }).locator("td").last();
    const ends = (await cell.innerText()).split(" to ").map(number);
    return Math.sqrt(ends[0] * ends[ends.length - 1]);
  };
  const [clicks, spend, cpc] = [await middle("Clicks a day"), await middle("Spend a day"), await middle("CPC")];
  expect(clicks * cpc / spend).toBeGreaterThan(0.85);
  expect(clicks * cpc / spend).toBeLessThan(1.15);
});

test("adjustments are reached from a split, and income is one", async ({ desk: page }) => {
  await page.goto(`${school}/spend/split?by=age`);
  await page.getByRole("link", { name: "Adjustments", exact: true }).click();
  await expect(page.getByRole("heading", { name: "Adjustments" })).toBeVisible();
  await expectAccessible(page);
  await page.goto(`${school}/spend/split?by=income`);
  await expect(page.getByRole("rowheader", { name: "unknown" })).toBeVisible();
});

test("listings that return too little and too much are both brought halfway from here", async ({ desk: page }) => {
  await page.goto(`${supply}/bids`);
  await page.getByRole("link", { name: "Items", exact: true }).click();
  const bidOf = async (name) => {
    await page.getByLabel("Filter by name").fill(name);
    const row = page.locator("#seen tbody tr", { hasText: name }).filter({ hasText: "Shop listings" });
    await expect(row).toHaveCount(1);
    // It has no bid of its own yet: the campaign's.
    const now = /manual CPC ([\d.]+)/.exec(await row.innerText())[1];
    await row.getByRole("checkbox").check();
    await page.getByLabel("What", { exact: true }).selectOption({ label: "bid halfway to affordable" });
    await page.getByRole("button", { name: "Put in tray" }).last().click();
    await expect(page.getByText("One change was put in the tray.")).toBeVisible();
    await page.goto(`${supply}/tray`);
    const change = page.locator("table.changes tbody tr", { hasText: name });
    const then = await change.locator("td.value").last().innerText();
    await page.goto(`${supply}/bids?level=items`);
    return [number(now), number(then)];
  };
  const [low, lower] = await bidOf("Extractor, 3 frames, hand");
  expect(lower).toBeLessThan(low);
  const [high, higher] = await bidOf("Foundation, 5 kg");
  expect(higher).toBeGreaterThan(high);
  await emptyTray(page, supply);
});

test("bids that follow their own averages are found from here and raised again", async ({ desk: page }) => {
  await page.goto(`${supply}/bids`);
  await page.locator("#seen").getByRole("link", { name: "Stall, jars", exact: true }).click();
  await expect(page.getByRole("heading", { name: "Stall, jars" })).toBeVisible();
  await page.getByRole("link", { name: "Why", exact: true }).click();
  await expect(page.getByRole("heading", { name: "The path of its bids" })).toBeVisible();
  await page.getByRole("checkbox", { name: /^Select: bid/ }).first().check();
  await page.getByRole("button", { name: "Put selected in the tray" }).click();
  await expect(page.getByText("One change was put in the tray.")).toBeVisible();
  await emptyTray(page, supply);
});
