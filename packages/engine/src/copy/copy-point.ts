import { EngineError } from '../errors';
import { rootName, type Root } from '../format/root';
import type { PackToc } from '../format/toc';
import { NameSet } from '../index/name-set';
import { lockWhere } from '../locks/lock-point';
import { helpsElsewhere } from '../store/loss';
import type { Store } from '../store/store';
import { topEntry } from '../tree/tree-reader';
import type { TreeEntry } from '../tree/tree-entry';

export interface CopyOptions {
  readonly seriesId: string;
  /** The task that took the point. */
  readonly taskId: string;
  /** The task that makes the copy; an attempt that was overtaken can't commit under another's. */
  readonly copyTask: string;
  /** A point of the series that `to` holds already: what is equal in both is not looked at again. */
  readonly alike?: string | undefined;
  /** Until when the copy is locked, ms. */
  readonly lockedUntil?: number | null | undefined;
  readonly now: () => number;
  readonly stopped: () => boolean;
  /** Called as chunks are passed, with all so far. */
  readonly onProgress?: (done: CopyCounts) => void;
}

export interface CopyCounts {
  /** Chunks looked at, and the bytes of those that had to travel. */
  chunks: number;
  moved: number;
  /** Bytes written to the target. */
  stored: number;
}

export interface CopiedPoint extends CopyCounts {
  readonly root: Root;
  /** The point was there already. */
  readonly adopted: boolean;
}

/**
 * Copies a point to another target of the same domain. Only chunks that are missing there travel; every one is checked as it is read and named anew as it is written. Broken off,
 * what was stored by then is used again. The point exists there once its root is created.
 * Throws DOMAIN_DIFFERS, OBJECT_MISSING when the point is not on `from`, TASK_GIVEN_UP, STOPPED, and what the targets throw.
 */
export async function copyPoint(from: Store, to: Store, options: CopyOptions): Promise<CopiedPoint> {
  const { seriesId, taskId, copyTask } = options;
  if (!from.keys.nameKey.equals(to.keys.nameKey)) throw new EngineError('DOMAIN_DIFFERS', to.target.description);
  await to.assertOwned();
  const pin = await to.pins.pin(copyTask, rootName(seriesId, taskId, copyTask));
  try {
    await to.index.confirm();
    const counts: CopyCounts = { chunks: 0, moved: 0, stored: 0 };
    const there = await to.root(seriesId, taskId);
    if (there) return { ...counts, root: there.root, adopted: true };
    const source = await from.root(seriesId, taskId);
    if (!source) throw new EngineError('OBJECT_MISSING', 'the root of the point to copy');
    const top = topEntry(source.root);
    const copying = new Copying(from, to, options, counts);
    const alike = options.alike === undefined ? undefined : await to.root(seriesId, options.alike);
    await copying.run(top, alike && topEntry(alike.root));
    const locked = await lockWhere(to, top, options.lockedUntil, options.stopped);
    const { lockedUntil: _, ...plain } = source.root;
    const root: Root = { ...plain, ...locked, copied: { from: from.header.targetId, at: options.now() } };
    if (options.stopped()) throw new EngineError('STOPPED');
    if (await to.commit(root, copyTask)) return { ...counts, root, adopted: false };
    const winner = await to.root(seriesId, taskId);
    if (!winner) throw new EngineError('TASK_GIVEN_UP');
    return { ...counts, root: winner.root, adopted: true };
  } finally {
    await to.pins.release(pin);
  }
}

class Copying {
  private readonly folders = new NameSet();
  private readonly seen = new NameSet();
  private readonly writer;
  private checkpointDue = false;

  constructor(
    private readonly from: Store,
    private readonly to: Store,
    private readonly options: CopyOptions,
    private readonly counts: CopyCounts,
  ) {
    this.writer = to.writer(to.claims(65_536).claims, (toc: PackToc) => {
      this.checkpointDue = to.index.written(toc) || this.checkpointDue;
    });
  }

  async run(top: TreeEntry, alike: TreeEntry | undefined): Promise<void> {
    await this.entry(top, alike);
    await this.writer.finish();
    this.counts.stored = this.writer.counts.stored;
  }

  private async entry(entry: TreeEntry, alike: TreeEntry | undefined): Promise<void> {
    await this.content(entry);
    if (!entry.folder) return;
    const { node } = entry.folder;
    if (alike?.folder?.node.equals(node) || !this.folders.add(node)) return;
    const before = new Map<string, TreeEntry>();
    if (alike?.folder) for (const e of await this.entriesAlike(alike.folder.node)) if (e.folder) before.set(e.name, e);
    for await (const piece of this.from.trees.nodes(node)) {
      await this.chunk(piece.node);
      for (const child of piece.entries) if (child.content || child.folder) await this.entry(child, before.get(child.name));
    }
  }

  /** Entries of a folder both may have: read where the point comes from, as the target may be slow or on the shelf; none when it can't be read. */
  private async entriesAlike(node: Buffer): Promise<TreeEntry[]> {
    for (const { trees } of [this.from, this.to])
      try {
        return await trees.folder(node);
      } catch (error) {
        if (!helpsElsewhere(error)) throw error;
      }
    return [];
  }

  private async content({ content }: TreeEntry): Promise<void> {
    if (!content) return;
    if ('lists' in content) for (let at = 0; at < content.lists.length; at += 32) await this.chunk(content.lists.subarray(at, at + 32));
    for await (const { names } of this.from.trees.contentParts(content))
      for (let at = 0; at < names.length; at += 32) await this.chunk(names.subarray(at, at + 32));
  }

  private async chunk(name: Buffer): Promise<void> {
    if (this.options.stopped()) throw new EngineError('STOPPED');
    if (!this.seen.add(name)) return;
    this.counts.chunks++;
    if (!this.to.index.holds(name)) {
      const data = await this.from.reader.read(name);
      if (!this.writer.put(data).equals(name)) throw new EngineError('OBJECT_DAMAGED', 'a chunk is not what its name says');
      this.counts.moved += data.length;
      await this.writer.drain();
      this.counts.stored = this.writer.counts.stored;
      if (this.checkpointDue) {
        this.checkpointDue = false;
        await this.to.index.checkpoint();
      }
    }
    this.options.onProgress?.(this.counts);
  }
}
