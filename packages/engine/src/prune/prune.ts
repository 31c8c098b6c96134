import { EngineError } from '../errors';
import { decodeSegment, encodeSegment } from '../format/index-segment';
import { packName } from '../format/pack';
import type { PackToc } from '../format/toc';
import { NameSet } from '../index/name-set';
import type { Store } from '../store/store';
import { condemn, forgetRecord, readCondemned, type CondemnedRecord } from './condemned';
import { Marker } from './mark';
import { Pins } from './pins';

export interface PruneOptions {
  /**
   * Which of these pinned tasks may still go on. Asked after the pins were listed; a task left out can never commit again.
   */
  readonly alive: (tasks: readonly string[]) => Promise<ReadonlySet<string>>;
  /** Only tell what would be done. */
  readonly trial: boolean;
  readonly stopped: () => boolean;
  readonly onStep?: (step: 'marking' | 'rewriting' | 'deleting') => void;
}

/** Packs and bytes. */
export interface PruneReport {
  /** Points on the target that were looked at. */
  readonly points: number;
  readonly packs: number;
  readonly bytes: number;
  /** Deleted in this run. */
  readonly freedPacks: number;
  readonly freedBytes: number;
  /** Found needless; deleted when the tasks that may not know of it have ended. */
  readonly waitingPacks: number;
  readonly waitingBytes: number;
  /** Half-empty packs whose living chunks were written anew. */
  readonly rewrittenPacks: number;
}

/** Packs with less living data than this share are rewritten. */
const rewriteBelow = 0.5;

interface KnownPack {
  readonly id: string;
  readonly bytes: number;
  /** Absent for a file that no index knows. */
  readonly toc: PackToc | undefined;
}

const bytesOf = (toc: PackToc) => toc.blocks.reduce((sum, b) => sum + b.stored, 0);

/**
 * Gives back the room of what no point needs any more. Safe beside runs on any number of movers, and against being killed anywhere:
 *
 * 1. Tasks that are pinned but can never go on are given up for good: their root's name is taken by a void one.
 * 2. Of packs condemned earlier, whose pinned tasks have all ended, those that still no point needs are deleted: first from the index, then the files.
 * 3. What no point needs now is condemned. When nobody is pinned, step 2 follows at once.
 *
 * What points need is told by the roots on the target alone, never by the catalog.
 */
export async function prune(store: Store, options: PruneOptions): Promise<PruneReport> {
  const work = new Pruning(store, options);
  return work.run();
}

class Pruning {
  private readonly marker: Marker;
  private freedPacks = 0;
  private freedBytes = 0;
  private rewritten = 0;

  constructor(
    private readonly store: Store,
    private readonly options: PruneOptions,
  ) {
    this.marker = new Marker(store, options.stopped);
  }

  private get target() {
    return this.store.target;
  }

  private check(): void {
    if (this.options.stopped()) throw new EngineError('STOPPED');
  }

  async run(): Promise<PruneReport> {
    if (!this.options.trial) {
      await this.store.assertOwned();
      await this.giveUpTheDead();
    }
    await this.sweep();
    const packs = await this.packs();
    const needless = await this.needless(packs);
    const bytes = packs.reduce((sum, p) => sum + p.bytes, 0);
    if (this.options.trial) return this.report(packs.length, bytes, needless);
    if (needless.length) {
      const ids = needless.map((p) => p.id);
      const record = await condemn(this.store.keys, this.target, ids, () => this.store.pins.list());
      if (record.pins?.length === 0) await this.sweep();
    }
    const records = await readCondemned(this.store.keys, this.target);
    const waiting = new Set(records.flatMap((r) => r.packs));
    return this.report(
      packs.length,
      bytes,
      packs.filter((p) => waiting.has(p.id)),
    );
  }

  private report(packs: number, bytes: number, waiting: readonly KnownPack[]): PruneReport {
    return {
      points: this.marker.points,
      packs,
      bytes,
      freedPacks: this.freedPacks,
      freedBytes: this.freedBytes,
      waitingPacks: waiting.length,
      waitingBytes: waiting.reduce((sum, p) => sum + p.bytes, 0),
      rewrittenPacks: this.rewritten,
    };
  }

  /** Takes the pins of tasks that have ended without letting go, after making sure that they can not commit a point any more. */
  private async giveUpTheDead(): Promise<void> {
    const pinned = await this.store.pins.list();
    const alive = await this.options.alive([...new Set(pinned.map((pin) => Pins.taskOf(pin)))]);
    for (const pin of pinned) {
      const said = alive.has(Pins.taskOf(pin)) ? undefined : await this.store.pins.said(pin);
      if (!said || Pins.counts(said.until, Date.now())) continue;
      if (said.commits) await this.store.voidRoot(said.commits);
      await this.store.pins.release(pin);
    }
  }

  /** Deletes what was condemned and that nobody can miss. */
  private async sweep(): Promise<void> {
    const pinned = new Set(await this.store.pins.list());
    const records = await readCondemned(this.store.keys, this.target);
    const ready = records.filter((r) => r.pins && !r.pins.some((p) => pinned.has(p)));
    this.options.onStep?.('marking');
    await this.marker.mark();
    if (!ready.length || this.options.trial) return;
    this.options.onStep?.('deleting');
    await this.store.locks.refresh();
    const packs = await this.packs();
    const condemned = new Set(records.flatMap((r) => r.packs));
    const elsewhere = new NameSet();
    for (const p of packs) if (!condemned.has(p.id)) for (const c of p.toc?.chunks() ?? []) elsewhere.add(c.name);
    const due = new Set(ready.flatMap((r) => r.packs));
    const doomed = packs.filter(
      (p) => due.has(p.id) && !this.isLocked(p) && !p.toc?.chunks().some((c) => this.marker.live.has(c.name) && !elsewhere.has(c.name)),
    );
    await this.store.assertOwned();
    await this.forget(new Set(doomed.map((p) => p.id)));
    for (const p of doomed) {
      this.check();
      await this.target.remove(packName(Buffer.from(p.id, 'hex')));
      this.freedPacks++;
      this.freedBytes += p.bytes;
    }
    const gone = new Set(doomed.map((p) => p.id));
    for (const record of ready)
      if (!record.damaged || record.packs.every((id) => gone.has(id) || !packs.some((p) => p.id === id)))
        await forgetRecord(this.target, record.id);
    await this.store.index.refresh();
  }

  /** Packs of a locked point are left as they are until their lock has ended, needed or not. */
  private isLocked(pack: KnownPack): boolean {
    return this.store.locks.of(pack.id) > Date.now();
  }

  /** Takes packs out of the index: a segment without them is written before the one with them goes. */
  private async forget(packs: ReadonlySet<string>): Promise<void> {
    for (const name of await this.target.list('index/')) {
      this.check();
      const tocs = decodeSegment(this.store.keys, `index/${name}`, await this.target.read(`index/${name}`));
      const kept = tocs.filter((t) => !packs.has(t.packId.toString('hex')));
      if (kept.length === tocs.length) continue;
      if (kept.length) {
        const segment = encodeSegment(this.store.keys, kept);
        await this.target.put(segment.name, segment.file);
      }
      await this.target.remove(`index/${name}`);
    }
  }

  /** All packs: those the index knows, and files it does not know, which an interrupted run left or a running one is writing. */
  private async packs(): Promise<KnownPack[]> {
    const known = new Map<string, KnownPack>();
    for await (const toc of this.store.index.tocs()) {
      const id = toc.packId.toString('hex');
      known.set(id, { id, bytes: bytesOf(toc), toc });
    }
    for (const shelf of await this.target.list('packs/'))
      for (const id of await this.target.list(`packs/${shelf}/`)) if (!known.has(id)) known.set(id, { id, bytes: 0, toc: undefined });
    return [...known.values()];
  }

  /** Packs that hold nothing a point needs, after the living chunks of half-empty ones were written anew. */
  private async needless(packs: readonly KnownPack[]): Promise<KnownPack[]> {
    const records: CondemnedRecord[] = await readCondemned(this.store.keys, this.target);
    const condemned = new Set(records.flatMap((r) => r.packs));
    await this.store.locks.refresh();
    const candidates = packs.filter((p) => !condemned.has(p.id) && !this.isLocked(p));
    const living = (p: KnownPack) => p.toc?.chunks().filter((c) => this.marker.live.has(c.name)) ?? [];
    const lengths = (chunks: readonly { readonly length: number }[]) => chunks.reduce((sum, c) => sum + c.length, 0);
    const empty: KnownPack[] = [];
    const sparse: KnownPack[] = [];
    for (const pack of candidates) {
      const live = living(pack);
      if (!live.length) empty.push(pack);
      else if (lengths(live) < lengths(pack.toc?.chunks() ?? []) * rewriteBelow) sparse.push(pack);
    }
    if (!this.options.trial) await this.rewrite(sparse.flatMap(living).map((c) => c.name));
    this.rewritten = sparse.length;
    return [...empty, ...sparse];
  }

  private async rewrite(names: readonly Buffer[]): Promise<void> {
    if (!names.length) return;
    this.options.onStep?.('rewriting');
    const done = new NameSet();
    const writer = this.store.writerOfAll();
    for (const name of names) {
      this.check();
      if (!done.add(name)) continue;
      writer.put(await this.store.reader.read(name));
      await writer.drain();
    }
    await writer.finish();
    await this.store.index.checkpoint();
  }
}
