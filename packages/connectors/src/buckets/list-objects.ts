import { byUtf8 } from '@lithodex/core';
import type { BucketClient, ListedObject } from './bucket-client';
import { keyBetween } from './key-midpoint';
import { PackedPage } from './packed-page';

/** So many stretches of the keys are listed side by side. */
const atOnce = 4;
/** Listings shorter than so many pages are not shared out: that takes requests as well. */
const leastPages = 8;
const mostProbes = 24;

/** Keys behind `after`, to `end` and with it; undefined for all that follow. */
interface Stretch {
  after: string;
  end: string | undefined;
  readonly pages: PackedPage[];
  done: boolean;
}

/** Lists a bucket in the order of the keys: a long listing in several stretches side by side, which are found by asking what comes behind keys half way. `passed` is told each page. */
export async function listObjects(
  client: Pick<BucketClient, 'page'>,
  passed: (objects: readonly ListedObject[]) => void,
): Promise<PackedPage[]> {
  return new Listing(client, passed).run();
}

class Listing {
  private readonly stretches: Stretch[] = [{ after: '', end: undefined, pages: [], done: false }];
  private pages = 0;

  constructor(
    private readonly client: Pick<BucketClient, 'page'>,
    private readonly passed: (objects: readonly ListedObject[]) => void,
  ) {}

  async run(): Promise<PackedPage[]> {
    const first = this.stretches[0]!;
    while (!first.done && this.pages < leastPages) await this.step(first);
    if (!first.done) await Promise.all([this.finish(first), ...Array.from({ length: atOnce - 1 }, () => this.help())]);
    return this.stretches.flatMap((s) => s.pages);
  }

  private async finish(stretch: Stretch): Promise<void> {
    while (!stretch.done) await this.step(stretch);
  }

  /** One page of a stretch; its end may come nearer meanwhile. */
  private async step(stretch: Stretch): Promise<void> {
    const { objects, more } = await this.client.page(stretch.after);
    this.pages++;
    const { end } = stretch;
    const own = end === undefined ? objects : objects.filter((o) => byUtf8(o.key, end) <= 0);
    if (own.length) stretch.pages.push(new PackedPage(own));
    this.passed(own);
    stretch.done = !more || own.length < objects.length || own.length === 0;
    stretch.after = own.at(-1)?.key ?? stretch.after;
    if (end !== undefined && byUtf8(stretch.after, end) >= 0) stretch.done = true;
  }

  /** Takes the far half of whatever is listed, again and again until there is none. */
  private async help(): Promise<void> {
    for (;;) {
      const own = await this.share();
      if (!own) return;
      await this.finish(own);
    }
  }

  private async share(): Promise<Stretch | undefined> {
    for (let probes = 0; probes < mostProbes; probes++) {
      const open = this.stretches.filter((s) => !s.done);
      const from = open[probes % Math.max(1, open.length)];
      if (!from) return undefined;
      const middle = keyBetween(from.after, from.end);
      if (middle === undefined) continue;
      const { end } = from;
      const { objects } = await this.client.page(middle, 1);
      // somebody else took a part of it, or it came as far, while that was asked
      if (from.done || from.end !== end || byUtf8(from.after, middle) >= 0) continue;
      const next = objects[0]?.key;
      const empty = next === undefined || (end !== undefined && byUtf8(next, end) > 0);
      from.end = middle;
      if (empty) continue;
      const own: Stretch = { after: middle, end, pages: [], done: false };
      this.stretches.splice(this.stretches.indexOf(from) + 1, 0, own);
      return own;
    }
    return undefined;
  }
}
