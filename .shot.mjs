import puppeteer from 'puppeteer-core';
const [, , base, out, person, theme, ...shots] = process.argv;
const browser = await puppeteer.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync'] });
const page = await browser.newPage();
await page.setViewport({ width: 1280, height: 800 });
page.on('pageerror', (e) => console.log('pageerror', e.message));
page.on('console', (m) => m.type() === 'error' && console.log('console', m.text()));
await page.goto(base + '/sign-in', { waitUntil: 'networkidle2' });
await page.evaluate((t) => { localStorage.setItem('lx-theme', t); }, theme);
await page.type('input[name=name]', person).catch(() => page.type('input', person));
await page.type('input[type=password]', 'lanterns-at-dusk');
await page.keyboard.press('Enter');
await new Promise((r) => setTimeout(r, 2500));
for (const shot of shots) {
  const [path, name, ...acts] = shot.split('=>');
  await page.goto(base + path, { waitUntil: 'domcontentloaded' });
  await page.evaluate((t) => document.documentElement.setAttribute('data-bs-theme', t), theme);
  await new Promise((r) => setTimeout(r, 2500));
  for (const act of acts) {
    if (act.startsWith('type:')) { const [, sel, text] = act.split(':'); await page.type(sel, text); }
    else await page.evaluate((text) => { const b = [...document.querySelectorAll('button,a')].find((x) => x.textContent.trim().startsWith(text) || x.getAttribute('aria-label')?.startsWith(text)); if (!b) console.error('no ' + text); b?.click(); }, act);
    await new Promise((r) => setTimeout(r, 2000));
  }
  await page.screenshot({ path: `${out}/${name}.png` });
  console.log(name, page.url());
}
await browser.close();
