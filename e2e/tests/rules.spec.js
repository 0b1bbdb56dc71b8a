// Rules as a new user meets them: one is written as a sentence, rehearsed, switched on, watched and undone; thresholds
// by posture. What is made here is removed again.
import { expect, expectAccessible, school, supply, test } from "./desk.js";

const settled = (page) => page.waitForLoadState("networkidle");

test("a rule is written, rehearsed, switched on, watched and undone", async ({ desk: page }) => {
  await page.goto(`${school}/rules`);
  await expectAccessible(page);
  await page.getByRole("link", { name: "New rule" }).first().click();
  await expect(page.getByRole("heading", { name: "Ready-made" })).toBeVisible();
  await expectAccessible(page);
  await page.getByRole("button", { name: "Write a rule" }).click();
  await expect(page.getByRole("heading", { name: "New rule" })).toBeVisible();
  // The sentence is the form: what is typed is read back at once, with what it would touch today.
  await page.getByLabel("Name", { exact: true }).fill("Dear keywords");
  await page.getByLabel("what it looks at").selectOption("items");
  await page.locator("[name='c0.0.metric']").selectOption("clicks");
  await page.locator("[name='c0.0.is']").selectOption("at_least");
  await page.locator("[name='c0.0.number']").fill("50");
  await page.getByLabel("least settled days").fill("");
  await page.getByLabel("most pauses a day").fill("2");
  await page.getByLabel("most pauses a day").press("Tab");
  await expect(page.locator("#tried")).toContainText("for each item of all campaigns: if clicks over 14 settled days are at least 50");
  await expect(page.locator("#tried")).toContainText("Today it would touch");
  // What can't be read is said at its place, and nothing is lost.
  await page.getByLabel("least clicks").fill("many");
  await page.getByRole("button", { name: "Save", exact: true }).last().click();
  await expect(page.getByText("‘many’ is not a number").first()).toBeVisible();
  await expect(page.getByLabel("Name", { exact: true })).toHaveValue("Dear keywords");
  await page.getByLabel("least clicks").fill("20");
  await page.getByRole("button", { name: "Save", exact: true }).last().click();
  await expect(page.getByRole("heading", { name: "Dear keywords" })).toBeVisible();
  await expectAccessible(page);
  await page.getByRole("link", { name: "Rehearse", exact: true }).click();
  await expect(page.locator("p.lead-in")).toContainText("Nothing was changed.");
  await expect(page.locator("p.lead-in")).toContainText("it would have acted");
  await expectAccessible(page);
  await page.getByRole("link", { name: "Dear keywords" }).click();
  await page.getByRole("button", { name: "Switch on" }).click();
  await expect(page.getByRole("button", { name: "Switch off" })).toBeVisible();
  await page.getByRole("button", { name: "Run it now" }).click();
  await expect(page.getByText("waits in the tray").first()).toBeVisible({ timeout: 15_000 });
  await expect(page.locator("p.lead-in")).toContainText("touched");
  // What waits of rules is told on the loop.
  await expect(page.getByRole("navigation", { name: "The loop" })).toContainText("waiting");
  await expectAccessible(page);
  await page.getByRole("button", { name: "Undo this run" }).click();
  await expect(page.getByText("taken out of the tray").first()).toBeVisible();
  // Everything stops at one press, and goes on at another.
  await page.goto(`${school}/rules`);
  await expect(page.locator("p.lead-in")).toContainText("One rule is on.");
  await page.getByRole("button", { name: "Stop all rules" }).click();
  await expect(page.getByText("All rules are stopped")).toBeVisible();
  await page.getByRole("button", { name: "Let rules run again" }).click();
  await page.getByRole("link", { name: "Dear keywords", exact: true }).click();
  await page.getByRole("button", { name: "Remove this rule" }).click();
  await expect(page.getByText("There are none yet")).toBeVisible();
});

test("thresholds follow a posture, are refined below, and their spiral is named", async ({ desk: page }) => {
  await page.goto(`${supply}/targets/lines`);
  const row = (await page.locator("input[name^='name-']").count());
  await page.getByLabel(`Name, row ${row}`).fill("Jars of the stall");
  await page.getByLabel(`Price, row ${row}`).fill("46");
  await page.getByLabel(`Margin, row ${row}`).fill("38%");
  await page.getByLabel(`Share to keep, row ${row}`).fill("10%");
  await page.getByLabel(`Target told in, row ${row}`).selectOption("acos");
  await page.getByRole("button", { name: "Apply" }).click();
  await settled(page);
  await page.goto(`${supply}/rules/new`);
  await page.getByLabel("Items of").selectOption({ label: "Stall, jars" });
  await page.getByLabel("that sell").selectOption({ label: "Jars of the stall" });
  await page.getByRole("button", { name: "See the thresholds" }).click();
  await expect(page.getByRole("heading", { name: "Thresholds to hold" })).toBeVisible();
  await expect(page.getByText("no more than what one leaves before advertising, 17.48")).toBeVisible();
  await expectAccessible(page);
  await page.getByRole("button", { name: "Make this rule" }).click();
  await expect(page.getByRole("heading", { name: "Stall, jars, hold" })).toBeVisible();
  await expectAccessible(page);
  // The practice of the last ten weeks: 0.12 above the average click.
  await page.getByLabel("above the average click", { exact: true }).fill("0.12");
  await page.getByRole("button", { name: "Save", exact: true }).last().click();
  await settled(page);
  await page.getByRole("link", { name: "Rehearse", exact: true }).click();
  await expect(page.getByText("Its bids sink.")).toBeVisible();
  await expect(page.locator("svg.bid-path").first()).toBeVisible();
  await expectAccessible(page);
  const again = page.getByRole("button", { name: /above and rehearse again/ });
  await again.click();
  await expect(page.getByText("Its bids sink.")).toHaveCount(0);
  await page.getByRole("link", { name: "Stall, jars, hold" }).click();
  // One item keeps a lowest bid of its own, and gives it back.
  const own = page.getByLabel("lowest bid, Hexagon jars on the stall");
  await own.fill("0.33");
  await page.getByRole("button", { name: "Apply changed thresholds" }).click();
  await expect(own).toHaveClass(/own/);
  await own.fill("");
  await page.getByRole("button", { name: "Apply changed thresholds" }).click();
  await expect(own).not.toHaveClass(/own/);
  await page.getByRole("button", { name: "Remove this rule" }).click();
  await page.goto(`${supply}/targets/lines`);
  await page.getByLabel(`Name, row ${row}`).fill("");
  await page.getByRole("button", { name: "Apply" }).click();
});

test("what a rule tells stands on Today until the rule is gone", async ({ desk: page }) => {
  await page.goto(`${school}/rules/new`);
  await page.getByRole("button", { name: "Write a rule" }).click();
  await page.getByLabel("Name", { exact: true }).fill("Busy campaigns");
  await page.getByLabel("what it looks at").selectOption("campaigns");
  await page.locator("[name='c0.0.metric']").selectOption("clicks");
  await page.locator("[name='c0.0.is']").selectOption("at_least");
  await page.locator("[name='c0.0.number']").fill("50");
  await page.locator("[name='then']").selectOption("tell");
  await page.getByLabel("least settled days").fill("");
  await page.getByRole("button", { name: "Save", exact: true }).last().click();
  await expect(page.getByRole("heading", { name: "Busy campaigns" })).toBeVisible();
  await page.getByRole("button", { name: "Run it now" }).click();
  await expect(page.locator("p.lead-in")).toContainText("It told of");
  await expect(page.getByRole("region", { name: "What it told of" })).toBeVisible();
  await expect(page.getByRole("button", { name: "Undo this run" })).toHaveCount(0);
  await page.goto(`${school}/today`);
  const told = page.getByRole("region", { name: "From your rules" });
  await expect(told).toContainText("Busy campaigns tells of");
  await expectAccessible(page);
  await told.getByRole("link", { name: /See why.*Busy campaigns/ }).click();
  await page.getByRole("link", { name: "Busy campaigns" }).click();
  await page.getByRole("button", { name: "Remove this rule" }).click();
  await page.goto(`${school}/today`);
  await expect(told).toHaveCount(0);
});

test("rules come from a file, a mistake in it is told by its place, and all of them stop by keyboard", async ({ desk: page }) => {
  const rule = (campaign) =>
    JSON.stringify({
      format: "gold-tiller/rules@1",
      currency: "EUR",
      custom_rules: [
        {
          name: "Nothing for two targets",
          rule: {
            things: "items",
            in: [campaign],
            when: { all: [{ metric: "conversions", over: { days: 28 }, is: "at_most", than: { value: 0 } }] },
            evidence: { spend: { times_target: 2 } },
            then: "pause",
          },
        },
      ],
    });
  await page.goto(`${supply}/rules/new`);
  await page.getByLabel("Rules as JSON").fill(rule("Stall, jugs"));
  await page.getByRole("button", { name: "Add the rules of this file" }).click();
  const wrong = page.getByRole("alert");
  await expect(wrong).toContainText("Nothing was added: custom_rules[0].rule.in: there is no campaign ‘Stall, jugs’");
  await expect(wrong).toContainText("‘Stall, jars’");
  await expect(page.getByLabel("Rules as JSON")).toHaveValue(rule("Stall, jugs"));
  await expectAccessible(page);
  await page.getByLabel("Rules as JSON").fill(rule("Stall, jars"));
  await page.getByRole("button", { name: "Add the rules of this file" }).click();
  await page.getByRole("link", { name: "Nothing for two targets", exact: true }).click();
  // It is off until somebody switches it on, and its JSON is what was pasted.
  await page.getByRole("button", { name: "Switch on" }).click();
  const saved = await page.request.get(`${page.url()}/rule.json`);
  expect(JSON.parse(await saved.text()).custom_rules[0].rule.in).toEqual(["Stall, jars"]);
  // The switch at the top works by keyboard, and is told at every station.
  await page.goto(`${supply}/rules`);
  await page.getByRole("button", { name: "Stop all rules" }).focus();
  await page.keyboard.press("Enter");
  await expect(page.locator("p.lead-in")).toContainText("One rule is on and stopped.");
  await expectAccessible(page);
  await page.goto(`${supply}/spend`);
  await expect(page.getByRole("navigation", { name: "The loop" })).toContainText("all stopped");
  await page.goto(`${supply}/rules`);
  await page.getByRole("button", { name: "Let rules run again" }).press("Enter");
  await expect(page.locator("p.lead-in")).toContainText("One rule is on.");
  await page.getByRole("link", { name: "Nothing for two targets", exact: true }).click();
  await page.getByRole("button", { name: "Remove this rule" }).click();
  await expect(page.getByText("There are none yet")).toBeVisible();
});
