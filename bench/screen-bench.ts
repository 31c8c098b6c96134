import fs from 'node:fs';
import path from 'node:path';
import { hashPassword } from '@lithodex/server';
import { Visitor } from '../tests/support/browser';
import { p95, type BenchServer } from './bench-server';
import type { Kept } from './result';

const opens = 12;
const account = { name: 'bench', password: 'a password for the bench' };
export const builtWeb = path.resolve('packages/web/dist/browser');

/** First paint and frames while scrolling, in a headless browser that draws with the processor. */
export async function screenBench({ server }: BenchServer, keeps: (k: Kept) => void): Promise<void> {
  if (!fs.existsSync(builtWeb)) throw new Error('Build the browser side first: ./lithodex demo does.');
  // a second factor would have to be made first
  await server.deps.db('setting').where({ name: 'sign-in' }).delete();
  await server.deps.db('person').insert({
    name: account.name,
    display: account.name,
    role: 'administrator',
    password_hash: await hashPassword(account.password),
    created_at: Date.now(),
  });
  const visitor = await Visitor.arrive(`http://127.0.0.1:${server.port}`);
  try {
    await visitor.signIn(account.name, account.password);
    for (const [name, address, what] of [
      ['watch', '/watch', '.lead'],
      ['estate', '/estate', '[aria-rowindex]'],
      ['estate by host', '/estate?by=host', '[aria-rowindex]'],
      ['runs', '/runs', '.list-row:not(.head)'],
    ] as const) {
      const [paints, whole]: [number[], number[]] = [[], []];
      for (let i = 0; i < opens; i++) {
        await visitor.open(address);
        await visitor.page.waitForSelector(what);
        const [paint, shown] = await visitor.page.evaluate(() => [
          performance.getEntriesByName('first-contentful-paint')[0]!.startTime,
          performance.now(),
        ]);
        if (i) {
          paints.push(paint!);
          whole.push(shown!);
        }
      }
      keeps({ bench: `${name}, first paint, p95`, found: p95(paints), below: 1000, unit: 'ms' });
      keeps({ bench: `${name}, contents on screen, p95`, found: p95(whole), below: 2000, unit: 'ms' });
    }
    for (const [name, address] of [
      ['estate', '/estate'],
      ['runs', '/runs'],
    ] as const) {
      await visitor.open(address);
      await visitor.page.waitForSelector('cdk-virtual-scroll-viewport .list-row');
      keeps({ bench: `${name}, frame while scrolling, p95`, found: p95(await framesWhileScrolling(visitor)), below: 50, unit: 'ms' });
    }
  } finally {
    await visitor.leave();
  }
}

/** Times between frames while a long list is scrolled by a page and more every frame, ms. */
function framesWhileScrolling(visitor: Visitor): Promise<number[]> {
  return visitor.page.evaluate(async () => {
    const list = document.querySelector('cdk-virtual-scroll-viewport')!;
    const frames: number[] = [];
    let last = performance.now();
    for (let i = 0; i < 300; i++) {
      list.scrollTop += 120;
      await new Promise(requestAnimationFrame);
      const now = performance.now();
      frames.push(now - last);
      last = now;
    }
    return frames;
  });
}
