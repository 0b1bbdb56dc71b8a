// What every test needs: a signed-in page that fails on any script error, and the accessibility check.
import AxeBuilder from "@axe-core/playwright";
import { expect, test as base } from "@playwright/test";

export const school = "/accounts/amberfold-school";
export const supply = "/accounts/amberfold-supply";
export const norge = "/accounts/amberfold-norge";

export const test = base.extend({
  page: async ({ page }, use) => {
    const complaints = [];
    page.on("pageerror", (error) => complaints.push(error.message));
    page.on("console", (message) => {
      // An edit that overtakes another aborts its request, and htmx tells of it.
      if (message.type() === "error" && !/^htmx:(sendAbort|afterRequest)/.test(message.text()) && !message.text().startsWith("Failed to load resource")) complaints.push(message.text());
    });
    page.on("response", (answer) => {
      // Pages may refuse on purpose; their styles and scripts may not.
      if (answer.status() >= 400 && answer.request().resourceType() !== "document") complaints.push(`${answer.status()} ${answer.url()}`);
    });
    await use(page);
    expect(complaints).toEqual([]);
  },
  desk: async ({ page }, use) => {
    await page.goto("/sign-in");
    await page.getByRole("button", { name: "demo analyst" }).click();
    await expect(page).toHaveURL(/\/accounts\/[a-z-]+\/today/);
    await use(page);
  },
});

export async function expectAccessible(page) {
  // A page reached by a link may still be loading its scripts.
  await page.waitForLoadState("load");
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.html).slice(0, 3).join(" | ")}`)).toEqual([]);
}

export { expect };
