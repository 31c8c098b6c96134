import fs from 'node:fs';
import os from 'node:os';
import puppeteer, { type Browser, type CDPSession, type ElementHandle, type Page } from 'puppeteer-core';

const flags = [
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
  '--disable-dev-shm-usage',
  '--hide-scrollbars',
  '--font-render-hinting=none',
];
/** How long something may take to appear; a machine may be slow. */
const patienceMs = 60_000;
/** Between two looks, in ms: to look at every frame takes of the processor that is to paint it. */
const polling = 50;
/** What moves for the eye alone stands still. */
export const calm = { name: 'prefers-reduced-motion', value: 'reduce' };

/** A person at a browser: speaks of what is on the screen, not of its markup. */
export class Visitor {
  readonly problems: string[] = [];
  /** What was asked of the server and has not come, by which load of a page; the stream of events never ends and is none of them. */
  private readonly awaited = new Map<string, { readonly loader: string; readonly url: string }>();

  private constructor(
    private readonly browser: Browser,
    readonly page: Page,
    private readonly wire: CDPSession,
    private readonly profile: string,
    readonly downloads: string,
    private readonly base: string,
  ) {}

  static async arrive(base: string): Promise<Visitor> {
    const profile = fs.mkdtempSync(`${os.tmpdir()}/lithodex-visitor-`);
    const downloads = fs.mkdtempSync(`${os.tmpdir()}/lithodex-downloads-`);
    const browser = await puppeteer.launch({
      executablePath: process.env['CHROMIUM'] ?? '/usr/bin/chromium',
      headless: true,
      userDataDir: profile,
      defaultViewport: { width: 1280, height: 800 },
      args: flags,
      timeout: patienceMs,
    });
    const page = await browser.newPage();
    const session = await browser.target().createCDPSession();
    await session.send('Browser.setDownloadBehavior', { behavior: 'allow', downloadPath: downloads, eventsEnabled: true });
    const wire = await page.createCDPSession();
    const visitor = new Visitor(browser, page, wire, profile, downloads, base);
    page.on('console', (m) => {
      const expected = /status of (401|409|422|403|404|400)/.test(m.text());
      if (['error', 'warn'].includes(m.type()) && !expected) visitor.problems.push(m.text());
    });
    await wire.send('Network.enable');
    wire.on('Network.requestWillBeSent', ({ requestId, loaderId, type, request }) => {
      if (type !== 'EventSource') visitor.awaited.set(requestId, { loader: loaderId, url: request.url });
    });
    for (const ending of ['Network.loadingFinished', 'Network.loadingFailed'] as const)
      wire.on(ending, ({ requestId }) => visitor.awaited.delete(requestId));
    page.on('pageerror', (e) => visitor.problems.push(String(e)));
    page.setDefaultTimeout(patienceMs);
    await page.emulateMediaFeatures([calm]);
    return visitor;
  }

  async leave(): Promise<void> {
    await this.browser.close();
    fs.rmSync(this.profile, { recursive: true, force: true });
    fs.rmSync(this.downloads, { recursive: true, force: true });
  }

  async open(path: string): Promise<void> {
    await this.page.goto(this.base + path, { waitUntil: 'load' });
  }

  /** Waits until all that this page asked for has come and been painted. What a page asked for that was left meanwhile is never said to have ended. */
  async settles(): Promise<void> {
    const until = Date.now() + patienceMs;
    for (let quiet = 0; quiet < 3;) {
      await this.painted();
      const { loaderId } = (await this.wire.send('Page.getFrameTree')).frameTree.frame;
      const open = [...this.awaited.values()].filter((r) => r.loader === loaderId).map((r) => r.url);
      quiet = open.length === 0 ? quiet + 1 : 0;
      if (Date.now() > until) throw new Error(`this never came: ${open.join(', ')}`);
    }
  }

  async signIn(name: string, password: string): Promise<void> {
    await this.open('/sign-in');
    await this.type('Name', name);
    await this.type('Password', password);
    await this.press('Sign in');
    await this.page.waitForFunction(() => !location.pathname.startsWith('/sign-in'));
  }

  /** As a new visitor: nothing is known of them any more. */
  async forgetsCookies(): Promise<void> {
    const context = this.browser.defaultBrowserContext();
    await context.deleteCookie(...(await context.cookies()));
  }

  /** Waits until a text is on the page. */
  async sees(text: string, timeout = patienceMs): Promise<void> {
    await this.page
      .waitForFunction((t) => document.body.innerText.replaceAll('\u202f', ' ').includes(t), { timeout, polling }, text)
      .catch(async () => {
        throw new Error(`"${text}" does not appear; the page says: ${(await this.text()).slice(0, 1500)}`);
      });
  }

  async text(): Promise<string> {
    return this.page.evaluate(() => document.body.innerText);
  }

  /** A button, link or choice by its words. */
  private async control(words: string): Promise<ElementHandle> {
    const handle = await this.page
      .waitForFunction(
        (wanted) => {
          const fits = (el: Element) =>
            [el.getAttribute('aria-label'), (el as HTMLElement).innerText].some((t) => t?.trim().replace(/\s+/g, ' ').startsWith(wanted));
          const all = [...document.querySelectorAll('button, a, [role=option], [role=treeitem], summary')].filter(
            (el) => fits(el) && (el as HTMLElement).offsetParent !== null && !(el as HTMLButtonElement).disabled,
          );
          return all.sort((a, b) => (a as HTMLElement).innerText.length - (b as HTMLElement).innerText.length)[0];
        },
        { polling },
        words,
      )
      .catch(async () => {
        throw new Error(`there is nothing to press called "${words}"; the page says: ${(await this.text()).slice(0, 1500)}`);
      });
    return handle as ElementHandle;
  }

  /** Waits until what the last act changed has been painted: before that, what is found may be about to be switched off. */
  private async painted(): Promise<void> {
    await this.page
      .evaluate(() => new Promise<void>((done) => requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(done)))))
      .catch((e: unknown) => {
        if (!/context was destroyed|detached/i.test(String(e))) throw e;
      });
  }

  /** Presses what can be pressed and stands still: what moves or is switched off meanwhile is looked for again. */
  async press(words: string): Promise<void> {
    await this.painted();
    for (let tries = 0; ; tries++) {
      const element = (await this.control(words)) as ElementHandle<HTMLElement>;
      const still = await element.evaluate(async (el) => {
        el.scrollIntoView({ block: 'center' });
        const place = () => JSON.stringify(el.getBoundingClientRect());
        const frame = () => new Promise((next) => requestAnimationFrame(next));
        await frame();
        const before = place();
        await frame();
        return el.isConnected && place() === before && !(el as HTMLButtonElement).disabled;
      });
      if (!still && tries < 100) continue;
      if (!(await this.reaches(element)) && tries < 100) continue;
      await this.painted();
      return;
    }
  }

  /** Clicks where an element stands; false where it was moved away from there meanwhile, so that the click went beside it. */
  private async reaches(element: ElementHandle<HTMLElement>): Promise<boolean> {
    await element.evaluate((el) => {
      el.addEventListener('click', () => (el.dataset['pressed'] = ''), { capture: true, once: true });
    });
    await element.click();
    return element
      .evaluate((el) => {
        const pressed = 'pressed' in el.dataset;
        delete el.dataset['pressed'];
        return pressed || !el.isConnected;
      })
      .catch((e: unknown) => {
        if (!/context was destroyed|detached|Cannot find context|same JavaScript world|closed/i.test(String(e))) throw e;
        return true;
      });
  }

  /** A field by its label or placeholder. */
  private async field(label: string): Promise<ElementHandle<HTMLInputElement>> {
    const handle = await this.page.waitForFunction(
      (wanted) =>
        [...document.querySelectorAll<HTMLInputElement>('input, textarea')].find(
          (el) =>
            el.offsetParent !== null &&
            [el.getAttribute('aria-label'), el.placeholder, el.closest('label')?.innerText].some((t) => t?.trim().startsWith(wanted)),
        ),
      {},
      label,
    );
    return handle as ElementHandle<HTMLInputElement>;
  }

  async type(label: string, text: string): Promise<void> {
    const field = await this.field(label);
    await field.click({ count: 3 });
    await field.type(text);
    await this.painted();
  }

  /** Chooses in a list of the browser by the value of the choice. */
  async pick(list: string, choice: string): Promise<void> {
    const selector = `select[name=${list}]`;
    await this.page.waitForSelector(`${selector} option[value=${choice}]`);
    await this.page.select(selector, choice);
    await this.painted();
  }

  /** Opens a slot of a sentence and chooses. */
  async choose(slot: string, choice: string): Promise<void> {
    await this.press(`${slot}:`);
    await this.press(choice);
  }

  async tick(label: string): Promise<void> {
    const box = await this.field(label);
    await box.click();
    await this.painted();
  }

  async keys(...keys: string[]): Promise<void> {
    for (const key of keys) {
      await this.page.keyboard.press(key as never);
      await this.painted();
    }
  }

  get address(): URL {
    return new URL(this.page.url());
  }

  /** Waits for a finished file in the download folder. */
  async download(): Promise<string> {
    for (const until = Date.now() + patienceMs; Date.now() < until;) {
      const done = fs.readdirSync(this.downloads).find((n) => !n.endsWith('.crdownload'));
      if (done && fs.statSync(`${this.downloads}/${done}`).size > 0) {
        await new Promise((resume) => setTimeout(resume, 200));
        return `${this.downloads}/${done}`;
      }
      await new Promise((resume) => setTimeout(resume, 100));
    }
    throw new Error('nothing was downloaded');
  }
}
