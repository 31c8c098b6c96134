import { besideName, bytesOfText, countOf, decideConflict, type RestoreAction } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import type { BucketTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { SlidingWork } from '../sliding-work';
import { SourceError } from '../source-error';
import { BucketClient } from './bucket-client';
import { endsAll } from './bucket-errors';
import { isSameObject } from './is-same-object';
import { objectFacts } from './object-facts';
import { ObjectWriter } from './object-writer';
import { objectsAt, objectsOf, type ObjectBack } from './objects-at';

const atOnce = 16;
/** Bytes of a key, as the protocol has it. */
const mostKeyBytes = 1024;
const mostTwins = 100;

/** Brings picked objects back into a bucket. A trial looks what would happen and writes nothing. Throws SourceError, STOPPED. */
export async function restoreBucket(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { server, destination }: BucketTo,
): Promise<RestoreOutcome> {
  const client = new BucketClient(server, destination.bucket);
  try {
    return await new BucketRestore(ctx, client, destination).run(picks);
  } finally {
    await client.close();
  }
}

class BucketRestore {
  private readonly acts = new Map<RestoreAction | 'failed', number>();
  private readonly writer: ObjectWriter;

  constructor(
    private readonly ctx: RestoreContext,
    private readonly client: BucketClient,
    private readonly to: BucketTo['destination'],
  ) {
    this.writer = new ObjectWriter(client, to.class, (bytes) => {
      this.goOn();
      ctx.moved(bytes);
    });
  }

  private goOn(): void {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
  }

  async run(picks: readonly RestorePick[]): Promise<RestoreOutcome> {
    const { ctx, to } = this;
    ctx.phase('preparing');
    const made = await this.make();
    ctx.phase('bringing back objects');
    const work = new SlidingWork(atOnce);
    const seen = new Set<string>();
    for (const pick of picks) {
      const point = await pick.open();
      const picked = { ...(await pick.find()), path: pick.path };
      const at = to.at ?? null;
      for await (const object of at === null ? objectsOf(picked) : objectsAt(point, picked, at)) {
        // a folder and something in it may be picked both
        const known = `${point.root.taskId} ${object.path}`;
        if (seen.has(known)) continue;
        seen.add(known);
        await work.add(() => this.bringBack(object));
      }
    }
    await work.idle();
    const count = (action: RestoreAction) => this.acts.get(action) ?? 0;
    const parts = [
      `${countOf(count('write') + count('beside') + count('replace'), 'object')} brought back to ${to.bucket}`,
      ...(made ? ['which was made for it'] : []),
      ...(count('same') ? [`${count('same')} there already`] : []),
      ...(count('leave') ? [`${count('leave')} left as they are`] : []),
      ...(count('replace') ? [`${count('replace')} of them replaced what was there`] : []),
    ];
    const items = [...this.acts.values()].reduce((sum, n) => sum + n, 0);
    return { items, summary: `${ctx.trial ? 'tried without writing: ' : ''}${parts.join(', ')}` };
  }

  /** Makes the bucket where it is to be made and is not there. */
  private async make(): Promise<boolean> {
    const { client, to, ctx } = this;
    try {
      await client.page('', 1);
      return false;
    } catch (error) {
      if (!(error instanceof SourceError && error.code === 'BUCKET_GONE' && to.make)) throw error;
      if (!ctx.trial) await client.ask(to.bucket, (s3) => s3.createBucket({ Bucket: to.bucket }));
      return true;
    }
  }

  private async bringBack(item: ObjectBack): Promise<void> {
    const { ctx } = this;
    this.goOn();
    const tell = async (action: RestoreAction | 'failed', remark: string) => {
      this.acts.set(action, (this.acts.get(action) ?? 0) + 1);
      ctx.done({ path: item.path, action, kind: 'file', bytes: item.entry.size, remark });
      await ctx.drain();
    };
    try {
      const { action, remark } = await this.write(item);
      await tell(action, remark);
    } catch (error) {
      if (!(error instanceof Error) || endsAll(error)) throw error;
      await tell('failed', error.message);
    }
  }

  private async write({ key: own, entry, tree }: ObjectBack): Promise<{ readonly action: RestoreAction; readonly remark: string }> {
    const { client, to, ctx } = this;
    if (entry.unread) throw new SourceError('BUCKET_FAILED', 'it is not in this point: it could not be read when the point was taken');
    const facts = objectFacts(entry);
    const key = to.prefix + own;
    if (Buffer.byteLength(key) > mostKeyBytes) throw new SourceError('BUCKET_FAILED', `the key would be longer than ${mostKeyBytes} bytes`);
    const now = await client.head(key).catch((error: unknown) => {
      // a bucket that is only to be made holds nothing
      if (ctx.trial && to.make && error instanceof SourceError && error.code === 'BUCKET_GONE') return undefined;
      throw error;
    });
    const action = decideConflict(
      to.exists,
      { isFolder: false, mtimeNs: entry.mtimeNs },
      now && {
        isFolder: false,
        mtimeNs: BigInt(now.mtime) * 1_000_000n,
        identical: await isSameObject(client, key, now, { tree, entry, etag: facts?.etag ?? '' }),
      },
    );
    if (action === 'leave' || action === 'same') return { action, remark: '' };
    const goesTo = action === 'beside' ? await this.freeKey(key) : key;
    const remark = action === 'beside' ? goesTo : '';
    if (ctx.trial) return { action, remark };
    const left = await this.writer.write(goesTo, { tree, entry, facts }, action !== 'replace');
    return { action, remark: [remark, left].filter(Boolean).join('; ') };
  }

  /** A key beside one that is taken. */
  private async freeKey(key: string): Promise<string> {
    const cut = key.lastIndexOf('/') + 1;
    const [head, name] = [key.slice(0, cut), bytesOfText(key.slice(cut))];
    for (let attempt = 1; attempt <= mostTwins; attempt++) {
      const own = besideName(name, this.to.stamp, attempt, mostKeyBytes - Buffer.byteLength(head));
      const free = head + Buffer.from(own, 'latin1').toString('utf8');
      if (!(await this.client.head(free))) return free;
    }
    throw new SourceError('BUCKET_FAILED', 'there are too many beside it already');
  }
}
