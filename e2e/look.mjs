import { chromium } from '@playwright/test'
const [base, out, ...paths] = process.argv.slice(2)
const dark = !!process.env.DARK
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] })
const page = await browser.newPage({ viewport: { width: +(process.env.W || 1280), height: +(process.env.H || 800) }, colorScheme: dark ? 'dark' : 'light' })
await page.goto(base + '/sign-in')
await page.fill('[name=email]', 'analyst@amberfold.example')
await page.fill('[name=password]', 'amberfold-demo')
await page.click('button[type=submit], main button')
await page.waitForLoadState()
let n = 0
for (const p of paths) { await page.goto(base + p); if (process.env.OPEN) for (const d of await page.$$('details')) await d.evaluate(x => x.open = true); await page.screenshot({ path: `${out}${n++}.png`, fullPage: !!process.env.FULL }) ; console.log(p, await page.title()) }
await browser.close()
