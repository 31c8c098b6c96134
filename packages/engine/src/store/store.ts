import { EngineError } from '../errors';
import { decodeRoot, encodeRoot, rootName, rootSum, taskOfRoot, voidRoot, type Root } from '../format/root';
import type { PackToc } from '../format/toc';
import { ChunkIndex } from '../index/chunk-index';
import { ClaimTable } from '../index/claim-table';
import { PackLocks } from '../locks/pack-locks';
import { newKeySet, type Domain, type KeySet } from '../keys/key-set';
import type { Target } from '../targets/target';
import { Pins } from '../prune/pins';
import { TreeReader } from '../tree/tree-reader';
import { ChunkReader } from './chunk-reader';
import { ChunkWriter } from './chunk-writer';
import { isLoss } from './loss';
import { ownerOf, takeOwnership } from './owner';
import { newHeader, openHeader, writeHeader, type StoreHeader } from './store-header';
import { StoreIndex } from './store-index';

/** A point found on a target. */
export interface ListedPoint {
  readonly seriesId: string;
  readonly taskId: string;
  readonly names: readonly string[];
}

/** A store opened for reading and committing. Writers get their own {@link ChunkWriter}. */
export class Store {
  readonly index: StoreIndex;
  readonly reader: ChunkReader;
  readonly trees: TreeReader;
  readonly pins: Pins;
  readonly locks: PackLocks;
  /** Id of the installation that writes; undefined for reading only. */
  installation: string | undefined;
  private ownedAt = '';

  private constructor(
    readonly target: Target,
    readonly header: StoreHeader,
    readonly keys: KeySet,
  ) {
    this.index = new StoreIndex(keys, target);
    this.reader = new ChunkReader(keys, target, this.index);
    this.trees = new TreeReader(this.reader);
    this.pins = new Pins(target);
    this.locks = new PackLocks(keys, target);
  }

  /** Makes a new store, in a domain of its own unless one is given. Throws TARGET_EXISTS, TARGET_MISSING, TARGET_REFUSED. */
  static async create(target: Target, keyFile: Buffer, now: Date, domain?: Domain): Promise<Store> {
    const keys = newKeySet(domain?.nameKey);
    const header = newHeader(keys, keyFile, now, domain?.id);
    await writeHeader(target, keys, header);
    return new Store(target, header, keys);
  }

  /** Opens a store with its key file or a passphrase and loads its index. */
  static async open(target: Target, secret: Buffer | string): Promise<Store> {
    const { header, keys } = await openHeader(target, secret);
    return Store.withKeys(target, header, keys);
  }

  static async withKeys(target: Target, header: StoreHeader, keys: KeySet): Promise<Store> {
    const store = new Store(target, header, keys);
    await store.index.refresh();
    return store;
  }

  get domain(): Domain {
    return { id: this.header.domainId, nameKey: this.keys.nameKey };
  }

  /** What a run may take as stored: every chunk that is not in a condemned pack. `expected`: chunks it may add. */
  claims(expected: number): ClaimTable {
    return ClaimTable.over(this.index.chunks, expected, (pack) => this.index.isCondemned(pack));
  }

  /** The same for a run that takes nothing as stored but what it has stored itself. */
  freshClaims(expected: number): ClaimTable {
    return ClaimTable.over(new ChunkIndex(), expected);
  }

  /** A writer that stores everything it is given, whether it is stored already or not. */
  writerOfAll(): ChunkWriter {
    return new ChunkWriter(
      this.keys,
      this.target,
      () => true,
      (toc) => void this.index.written(toc),
    );
  }

  /** A writer for this store that stores what `claim` calls new; every pack it has written is told to `onPack`. */
  writer(claim = this.claims(1000).claims, onPack: (toc: PackToc) => void = (toc) => void this.index.written(toc)): ChunkWriter {
    return new ChunkWriter(this.keys, this.target, claim, onPack);
  }

  /** The root of a point, or undefined when nothing was committed under its task, here or as a copy, or it was given up. Throws OBJECT_DAMAGED when none of its roots can be read. */
  async root(seriesId: string, taskId: string): Promise<{ root: Root; sum: string } | undefined> {
    let damaged: unknown;
    try {
      const own = await this.rootAt(rootName(seriesId, taskId));
      if (own) return own;
    } catch (error) {
      if (!isLoss(error)) throw error;
      damaged = error;
    }
    const copied = await this.copiedRoot(seriesId, taskId);
    if (!copied && damaged) throw damaged as Error;
    return copied;
  }

  /** The root of this name; undefined when it is not there or was given up. Throws OBJECT_DAMAGED. */
  async rootAt(name: string): Promise<{ root: Root; sum: string } | undefined> {
    try {
      const file = await this.target.read(name);
      return file.equals(voidRoot) ? undefined : { root: decodeRoot(this.keys, name, file), sum: rootSum(file) };
    } catch (error) {
      if (error instanceof EngineError && error.code === 'OBJECT_MISSING') return undefined;
      throw error;
    }
  }

  private async copiedRoot(seriesId: string, taskId: string): Promise<{ root: Root; sum: string } | undefined> {
    for (const name of await this.target.list(`roots/${seriesId}/`)) {
      const found = name.startsWith(`${taskId}.`) && (await this.rootAt(`roots/${seriesId}/${name}`));
      if (found) return found;
    }
    return undefined;
  }

  /** Makes sure that nothing can ever be committed under a root's name, unless it has been. */
  async voidRoot(name: string): Promise<void> {
    await this.target.putExclusive(name, voidRoot);
  }

  /**
   * Makes sure that nobody else has taken the store over; who is the first to write owns it. To be asked before anything is committed or taken away: what an
   * earlier owner still does a moment after is found and adopted by the next. Throws NOT_OWNER.
   */
  async assertOwned(): Promise<void> {
    const { installation } = this;
    if (installation === undefined) return;
    const newest = (await this.target.list('owner/')).at(-1) ?? '';
    if (newest !== '' && newest === this.ownedAt) return;
    let owner = await ownerOf(this.target, this.keys);
    if (!owner) {
      await takeOwnership(this.target, this.keys, installation, Date.now());
      owner = await ownerOf(this.target, this.keys);
    }
    if (owner?.installation !== installation)
      throw new EngineError('NOT_OWNER', `${this.target.description}, since ${new Date(owner?.since ?? 0).toISOString()}`);
    this.ownedAt = newest;
  }

  /** Commits: the point exists once this resolves. False when the task was committed before (that root then counts) or was given up. Throws NOT_OWNER. */
  async commit(root: Root, copyTask = ''): Promise<boolean> {
    await this.index.checkpoint();
    await this.assertOwned();
    const name = rootName(root.seriesId, root.taskId, copyTask);
    return this.target.putExclusive(name, encodeRoot(this.keys, name, root), root.lockedUntil);
  }

  /**
   * All points on the target, as series and task, with the names of their roots. A point whose task and whose copies were all given up is among them. What they need is known to the index when this resolves, also of those committed a moment ago: roots are listed first, as
   * their index segments are written before them.
   */
  async listPoints(): Promise<ListedPoint[]> {
    const points: ListedPoint[] = [];
    for (const seriesId of await this.listSeries()) {
      const roots = new Map<string, string[]>();
      for (const name of await this.target.list(`roots/${seriesId}/`))
        roots.set(taskOfRoot(name), [...(roots.get(taskOfRoot(name)) ?? []), `roots/${seriesId}/${name}`]);
      for (const [taskId, names] of roots) points.push({ seriesId, taskId, names });
    }
    await this.index.refresh();
    return points;
  }

  /** The root of a listed point, as {@link root}. Throws OBJECT_DAMAGED when none of its roots can be read. */
  async listedRoot({ names }: ListedPoint): Promise<Root | undefined> {
    let damaged: unknown;
    for (const name of names)
      try {
        const found = await this.rootAt(name);
        if (found) return found.root;
      } catch (error) {
        if (!isLoss(error)) throw error;
        damaged ??= error;
      }
    if (damaged) throw damaged as Error;
    return undefined;
  }

  /** Ids of the series with roots on the target, sorted. */
  async listSeries(): Promise<string[]> {
    return (await this.target.list('roots/')).filter((name) => !name.includes('.'));
  }

  /**
   * Removes the roots of a point: it is gone; what only it needed is left to pruning. The names of attempts that were given up stay taken. Throws OBJECT_LOCKED, and then nothing
   * was removed.
   */
  async removeRoot(seriesId: string, taskId: string): Promise<void> {
    await this.assertOwned();
    const going: string[] = [];
    for (const last of await this.target.list(`roots/${seriesId}/`)) {
      const name = `roots/${seriesId}/${last}`;
      if (taskOfRoot(last) !== taskId || (last !== taskId && (await this.target.read(name)).equals(voidRoot))) continue;
      const until = Math.max(await this.lockOfRoot(name), await this.target.lockedUntil(name));
      if (until > Date.now()) throw new EngineError('OBJECT_LOCKED', `${name}, until ${new Date(until).toISOString()}`);
      going.push(name);
    }
    for (const name of going) await this.target.remove(name);
  }

  /** What a root says itself of its lock; one that can not be read says nothing. */
  private async lockOfRoot(name: string): Promise<number> {
    try {
      return (await this.rootAt(name))?.root.lockedUntil ?? 0;
    } catch (error) {
      if (!isLoss(error)) throw error;
      return 0;
    }
  }
}
