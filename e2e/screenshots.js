// Takes the pictures of docs/screenshots from a server with a fresh demo: node screenshots.js FOLDER, address in BASE_URL.
import { mkdir } from "node:fs/promises";
import { chromium } from "@playwright/test";
import config from "./playwright.config.js";
import { school, supply } from "./tests/desk.js";

const folder = process.argv[2];
const { baseURL, viewport, colorScheme, launchOptions } = config.use;
const browser = await chromium.launch(launchOptions);
const page = await browser.newPage({ baseURL, viewport, colorScheme });
await mkdir(folder, { recursive: true });

const shoot = (name) => page.screenshot({ path: `${folder}/${name}.png` });
const view = async (name, place) => { await page.goto(place); await shoot(name); };
const press = (name) => page.getByRole("button", { name, exact: true }).click();
const to = (heading) => page.getByRole("heading", { name: heading }).first().evaluate((h) => scrollTo(0, h.getBoundingClientRect().top + scrollY));
const cause = async (account, campaign) => {
  await page.goto(`${account}/causes`);
  await page.getByRole("link", { name: campaign }).first().click();
  await page.waitForURL(/causes\/campaigns/);
};
await page.goto("/sign-in");
await page.getByRole("button", { name: "demo analyst" }).click();
await page.waitForURL(/today/);
await view("today", `${school}/today`);
await view("spend", `${school}/spend`);
await view("measure", `${supply}/measure`);
await view("split", `${school}/spend/split?by=hour`);
await view("causes", `${school}/causes`);
await cause(school, "Spring courses, search");
await shoot("campaign");
await cause(school, "Queen rearing, feed");
await to("Countries");
await shoot("findings");
await view("bids", `${school}/bids`);
await page.getByRole("link", { name: "Bid against volume" }).click();
await page.getByLabel("Look at a target CPA of").fill("44");
await page.getByLabel("Look at a target CPA of").press("Tab");
await page.getByRole("button", { name: "Put this target CPA in the tray" }).waitFor();
await shoot("volume");
await view("budgets", `${supply}/budgets`);
await page.goto(`${supply}/budgets/new`);
await press("Make the plan");
await page.getByRole("heading", { name: "reallocated" }).waitFor();
await shoot("plan");
await view("pace", `${school}/spend/pace`);
await page.goto(`${school}/rules/new`);
await press("Write a rule");
await page.getByRole("heading", { name: "New rule" }).waitFor();
await page.getByLabel("Name", { exact: true }).fill("No result for three times the target");
await page.getByLabel("how certain it has to be").fill("95%");
await page.locator("button[name=save]").last().click();
await page.getByRole("heading", { name: "No result" }).waitFor();
await shoot("rule");
await page.goto(`${supply}/targets/lines`);
for (const [label, text] of [["Name", "Jars"], ["Price", "46"], ["Margin", "38%"], ["Share to keep", "10%"]]) await page.getByLabel(`${label}, row 1`).fill(text);
await page.getByLabel("Target told in, row 1").selectOption("acos");
await press("Apply");
await page.goto(`${supply}/rules/new`);
await page.getByLabel("Items of").selectOption({ label: "Stall, jars" });
await press("See the thresholds");
await press("Make this rule");
await page.getByRole("heading", { name: "Stall, jars, hold" }).waitFor();
await page.getByLabel("above the average click", { exact: true }).fill("0.12");
await page.locator("button[name=save]").last().click();
await page.waitForLoadState("networkidle");
await page.getByText("Thresholds, from the campaign down").evaluate((e) => scrollTo(0, e.getBoundingClientRect().top + scrollY - 20));
await shoot("thresholds");
await page.getByRole("link", { name: "Rehearse", exact: true }).click();
await page.getByText("Its bids sink.").waitFor();
await shoot("rehearsal");
await view("score", `${school}/logbook/how-right-we-were`);

await page.goto(`${school}/reports`);
const rows = ["Tag;Kampagne;Anzeigengruppe;Klicks;Kosten;Leads", ...Array.from({ length: 9 }, (_, i) => `0${i + 1}.11.2026;Autumn fair;Stand;${40 + i};${30 + i},50;${1 + (i % 3)}`)];
await page.getByLabel("Report file (CSV)").setInputFiles({ name: "autumn-fair.csv", mimeType: "text/csv", buffer: Buffer.from(rows.join("\n")) });
await page.getByRole("button", { name: "Upload" }).click();
await page.getByRole("heading", { name: "How this file is read" }).waitFor();
await shoot("import");

for (const campaign of ["Spring courses, search", "Apiary visits, display"]) {
  await cause(school, campaign);
  await press("Put in tray");
  await page.getByText(/put in the tray/).first().waitFor();
}
await page.goto(`${school}/spend`);
await page.getByRole("link", { name: "Review and send" }).click();
await page.getByRole("region", { name: "Change tray, opened" }).waitFor();
await shoot("tray");
await page.goto(`${school}/tray`);
await press("Send selected");
await page.getByText("Nothing waits to be sent.").waitFor();
// Until their look-backs are done.
for (const day of [16, 23]) {
  await page.getByRole("button", { name: /market day/ }).click();
  await press("Let a week pass");
  await page.getByRole("button", { name: `market day ${day} Nov 2026` }).waitFor({ timeout: 150_000 });
}
await view("logbook", `${school}/logbook`);
await browser.close();
