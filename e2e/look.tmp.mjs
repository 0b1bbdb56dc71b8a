import { chromium } from "@playwright/test";
import AxeBuilder from "@axe-core/playwright";
const b = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
const c = await b.newContext({ viewport: { width: 1280, height: 800 } });
const p = await c.newPage();
await p.goto("http://127.0.0.1:8501/"); await p.locator("button").first().click(); await p.waitForLoadState();
const S = "http://127.0.0.1:8501/accounts/amberfold-school", Y="http://127.0.0.1:8501/accounts/amberfold-supply";
await p.goto(S+"/budgets/new"); await p.getByRole("button", { name: "Make the plan" }).click(); await p.waitForLoadState();
const plan = p.url();
const pages = [S+"/today", Y+"/today", S+"/spend", Y+"/spend", S+"/spend/pace", S+"/spend?level=ad-groups", S+"/causes", S+"/causes/campaigns/1", S+"/causes/campaigns/8", S+"/budgets", S+"/budgets/new", plan, S+"/budgets/campaigns/5/curve", S+"/budgets/campaigns/5/flight", S+"/budgets/campaigns/5/pool", S+"/budgets/campaigns/5/hours", S+"/tray", S+"/logbook", S+"/measure", S+"/channels", S+"/reports", S+"/targets"];
for (const w of process.argv[2].split(",").map(Number)) {
  await p.setViewportSize({ width: w, height: 800 });
  for (const u of pages) {
    await p.goto(u);
    const r = await p.evaluate(() => {
      const W = document.documentElement.clientWidth;
      const over = document.documentElement.scrollWidth - W;
      const culprits = over > 0 ? [...document.querySelectorAll("body *")].filter(e => e.getBoundingClientRect().right > W + 1 && !e.closest(".scroll,.visually-hidden,[popover]")).slice(0, 4).map(e => e.tagName + "." + e.className.toString().slice(0, 30) + " " + Math.round(e.getBoundingClientRect().right)) : [];
      const small = [...document.querySelectorAll("svg text")].filter(t => { const r = t.getBoundingClientRect(); return r.height > 0 && r.height < 10; }).length;
      return { over, culprits, head: Math.round(document.querySelector("header")?.getBoundingClientRect().height), small, title: document.title, mainw: Math.round(document.querySelector("main").getBoundingClientRect().width) };
    });
    let axe = "";
    if (w === 1280) {
      const { violations } = await new AxeBuilder({ page: p }).analyze();
      axe = violations.map(v => v.id + ":" + v.nodes.slice(0,2).map(n => n.html.slice(0, 80)).join("|")).join("; ");
    }
    console.log(w, u.replace(/.*accounts\/amberfold-/, ""), JSON.stringify(r), axe);
  }
}
await b.close();
