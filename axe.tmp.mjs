import puppeteer from 'puppeteer-core';
import axe from 'axe-core';
const [,, base, theme, ...paths] = process.argv;
const browser = await puppeteer.launch({ executablePath: '/usr/bin/chromium', headless: true, defaultViewport: { width: 1280, height: 800 }, args: ['--no-sandbox','--disable-gpu','--hide-scrollbars'] });
const page = await browser.newPage();
await page.emulateMediaFeatures([{ name: 'prefers-color-scheme', value: theme }]);
await page.goto(base + '/sign-in', { waitUntil: 'networkidle0' });
const run = async (path) => { await new Promise(r => setTimeout(r, 1800)); await page.evaluate(axe.source); const r = await page.evaluate(() => axe.run(document, { runOnly: { type: 'tag', values: ['wcag2a','wcag2aa','wcag21a','wcag21aa','wcag22aa'] } })); for (const v of r.violations) console.log(path, v.id, v.nodes.length, v.nodes.slice(0,3).map(n => n.target.join(' ')+' :: '+n.html.slice(0,140)+' :: '+(n.any[0]?.message??n.all[0]?.message??n.none[0]?.message??'').slice(0,120)).join('\n      ')); if (!r.violations.length) console.log(path,'clean'); };
await run('/sign-in');
await page.type('input[name=name]', 'eva.vind'); await page.type('input[name=password]', 'lanterns-at-dusk');
await page.click('button[type=submit]'); await page.waitForFunction(() => !location.pathname.startsWith('/sign-in'));
for (const p of paths) { await page.goto(base + p, { waitUntil: 'load' }); await run(p); }
await browser.close();
