import type { BackupWork, ItemChange, PointTotals } from '@lithodex/contract';
import { baseName, ChangeReader, countOf, parentPath, type ItemLook, type SeenChange } from '@lithodex/core';
import { changesInside, disksIn, type OpenPoint } from '@lithodex/connectors';
import { diffTrees, EngineError, isLoss, topEntry, type Root, type Store, type TreeChange, type TreeEntry } from '@lithodex/engine';
import { readersVersion, VolumeError } from '@lithodex/volumes';
import { contentOf, factsInside, factsOf } from './item-facts';
import type { TaskContext } from './task-context';

const batchSize = 5000;
/** Names inside the disks of a machine that are told at most: what a broken file system could go on with stays outside the catalog. */
const mostInside = 20_000_000;

export type Changes = PointTotals['changes'];

/** Sends the items of points to the catalog, as differences to the point before; batches are numbered through the whole task. */
export class CatalogLoader {
  private seq = 0;
  private batch: ItemChange[] = [];
  private underWay: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly ctx: TaskContext,
    private readonly store: Store,
  ) {}

  /** Loads one point and counts what changed in it. `files`: those of the point; `moment`: when it was taken, in milliseconds since 1970. */
  async load(before: TreeEntry | undefined, top: TreeEntry, { files, moment }: { files: number; moment: number }): Promise<Changes> {
    const reader = new ChangeReader(before !== undefined);
    for await (const change of diffTrees(this.store.trees, before, top)) {
      this.gather(change, factsOf);
      if (this.isFull) await this.send();
      const seen = seenOf(change);
      if (seen) reader.add(seen);
    }
    await this.sendAll(this.seq === 0);
    const counts = reader.read(files, moment).counts;
    const had = before ? files - counts.added + counts.removed : 0;
    return { ...counts, before: Math.max(0, had) };
  }

  /**
   * Loads what is inside the disks of a point where it is wanted, and takes it out where it is not wanted any more. Gives the version of the readers it was read by; 0 where it was not
   * wanted, or could not be had: the point is none the worse for it.
   */
  async loadInside(before: Root | undefined, now: Root, wanted: BackupWork['namesInside']): Promise<number> {
    const pointOf = (root: Root): OpenPoint => ({ kept: this.store, store: this.store, root, top: topEntry(root) });
    const known = before && wanted.before > 0 ? pointOf(before) : undefined;
    // what other readers told can't be compared with what these do
    const earlier = wanted.now && wanted.before === readersVersion ? known : undefined;
    if (known && !earlier) await this.close(disksIn(known));
    if (!wanted.now) return 0;
    const point = pointOf(now);
    this.ctx.phase('cataloguing what is inside');
    let told = 0;
    try {
      for await (const change of changesInside(earlier, point)) {
        if (this.ctx.stopped()) throw new EngineError('STOPPED');
        if ('disk' in change) this.batch.push({ change: change.change, ...placeOf(change.disk), facts: null });
        else this.gather(change, factsInside);
        if (this.isFull) await this.send();
        if (++told > mostInside) throw new VolumeError('NOT_READ', `more than ${countOf(mostInside, 'name')}`);
      }
      await this.sendAll(false);
      return readersVersion;
    } catch (error) {
      if (!(error instanceof VolumeError || isLoss(error))) throw error;
      const message = `names inside the disks can't be found by a search at this point: ${(error as Error).message}`;
      this.ctx.log({ level: 'warning', code: 'NAMES_NOT_READ', path: '', message });
      this.batch = [];
      await this.close([...new Set([...disksIn(point), ...(earlier ? disksIn(earlier) : [])])]);
      return 0;
    }
  }

  private async close(disks: readonly string[]): Promise<void> {
    for (const disk of disks) this.batch.push({ change: 'closed', ...placeOf(disk), facts: null });
    await this.sendAll(false);
  }

  private gather({ change, folder, entry }: TreeChange, facts: typeof factsOf): void {
    const opens = change === 'added' || change === 'changed';
    this.batch.push({ change, folder, name: entry.name, facts: opens ? facts(entry) : null });
  }

  private get isFull(): boolean {
    return this.batch.length >= batchSize;
  }

  /** One is loaded while the next is gathered. */
  private async send(): Promise<void> {
    const { task, api, stopped } = this.ctx;
    await this.underWay;
    const { batch: changes } = this;
    this.batch = [];
    this.underWay = api.insist('sendItems', { attempt: task.attempt, seq: this.seq++, changes }, task.id, stopped);
    // told where it is waited for
    this.underWay.catch(() => undefined);
  }

  private async sendAll(evenNone: boolean): Promise<void> {
    if (this.batch.length || evenNone) await this.send();
    await this.underWay;
  }
}

const placeOf = (path: string) => ({ folder: parentPath(path), name: baseName(path) });

const lookOf = (entry: TreeEntry): ItemLook => ({
  size: entry.size,
  random: entry.random === true,
  content: contentOf(entry),
  mtime: Number(entry.mtimeNs / 1_000_000n),
});

/** What tells damage: of files, where both points looked. */
function seenOf(change: TreeChange): SeenChange | undefined {
  const { entry, folder } = change;
  if (entry.kind !== 'file' || change.change === 'unseen') return undefined;
  const place = { folder, name: entry.name };
  if (change.change === 'removed') return { ...place, change: 'removed', before: lookOf(entry) };
  if (change.change === 'changed' && change.before.kind === 'file')
    return { ...place, change: 'changed', now: lookOf(entry), before: lookOf(change.before) };
  return { ...place, change: 'added', now: lookOf(entry) };
}
