import puppeteer from 'puppeteer-core';
import fs from 'node:fs';
const [,, base, out, who, theme, ...paths] = process.argv;
const browser = await puppeteer.launch({ executablePath: '/usr/bin/chromium', headless: true, defaultViewport: { width: 1280, height: 800 }, args: ['--no-sandbox','--disable-gpu','--hide-scrollbars'] });
const page = await browser.newPage();
page.on('console', m => { if (['error','warn'].includes(m.type())) console.log('console', m.text()); });
page.on('pageerror', e => console.log('pageerror', String(e)));
await page.evaluateOnNewDocument((t) => { localStorage.setItem('lithodex-theme', JSON.stringify(t)); localStorage.setItem('theme', t); }, theme);
await page.emulateMediaFeatures([{ name: 'prefers-color-scheme', value: theme }]);
if (who !== '-') {
  await page.goto(base + '/sign-in', { waitUntil: 'networkidle0' });
  await page.type('input[name=name]', who); await page.type('input[name=password]', 'lanterns-at-dusk');
  await page.click('button[type=submit]'); await page.waitForFunction(() => !location.pathname.startsWith('/sign-in'));
}
for (const p of paths) {
  const [path, name, click] = p.split('=>');
  await page.goto(base + path, { waitUntil: 'load' });
  await new Promise(r => setTimeout(r, 1800));
  if (click) { for (const c of click.split('|')) { const [h] = await page.$$(`xpath/.//button[normalize-space(.)="${c}"] | .//a[normalize-space(.)="${c}"]`); if (h) await h.click(); else console.log('no', c); await new Promise(r => setTimeout(r, 900)); } }
  await page.screenshot({ path: `${out}/${name}.png` });
}
await browser.close();
