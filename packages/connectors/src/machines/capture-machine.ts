import { alignRanges, batchRanges, joinPath, lengthOf, type DiskRange, type PathFilter } from '@lithodex/core';
import { EngineError, packEntry, FolderBuilder, type CapturePool, type PutChunk, type TreeEntry, type TreeReader } from '@lithodex/engine';
import { ImageMap, imageBlock } from './image-map';
import { diskFiles, disksFolder, settingsItem, type StoredMachine } from './machine-item';
import type { PlatformClient } from './platform-client';
import type { ConsistencyLevel, InsideAccount, PlatformDisk, PlatformMachine, TakenSnapshot } from './platform-types';
import { isSourceError, SourceError, type SourceErrorCode } from '../source-error';
import { SlidingWork } from '../sliding-work';
import type { StraightDisk } from './straight-disk';

export type MachineWarningCode = 'NOT_QUIET' | 'CHANGES_UNKNOWN' | 'CHANGED_UNSEEN' | 'SNAPSHOT_STAYS';

export interface MachineWarning {
  readonly code: MachineWarningCode;
  /** Byte string below the root. */
  readonly path: string;
  readonly cause: string;
}

/** Ids that changes since a point are asked for by, by id of the disk. */
export type ChangeIds = Readonly<Record<string, string>>;

export interface MachineProgress {
  items: number;
  /** Bytes of the images passed, as far as they hold data. */
  bytes: number;
  /** Bytes read from the platform. */
  read: number;
}

/** What was told of blocks, for the judgement of a point. */
export interface BlockCounts {
  before: number;
  added: number;
  changed: number;
  removed: number;
  random: number;
}

/** Why a machine may not come to rest; its disks are taken all the same. */
const restErrors: readonly SourceErrorCode[] = ['QUIESCE_FAILED', 'RIGHT_MISSING', 'INSIDE_REFUSED', 'MACHINE_OFF'];

export interface MachineCaptureOptions {
  readonly client: Pick<PlatformClient, 'machine' | 'takeSnapshot' | 'removeSnapshot' | 'ranges' | 'read'>;
  /** Opens a disk where it lies on its storage; undefined where its data goes over the network. */
  readonly straight?: ((disk: PlatformDisk) => Promise<StraightDisk | undefined>) | undefined;
  readonly machineId: string;
  /** Where its host is, as the settings say it. */
  readonly cluster: string;
  readonly location: string;
  readonly taskId: string;
  /** An account of the system inside, where one is known. */
  readonly inside: InsideAccount | undefined;
  /** Which of these tasks may still go on. */
  readonly alive: (tasks: string[]) => Promise<readonly string[]>;
  /** The point before: its top folder and change ids. */
  readonly previous: { readonly top: TreeEntry; readonly changeIds: ChangeIds } | undefined;
  /** Everything that was ever written is read again; otherwise only what changed since the point before. */
  readonly rereads: boolean;
  readonly filter: PathFilter;
  readonly trees: TreeReader;
  readonly pool: CapturePool;
  readonly put: PutChunk;
  /** Name of a block of zeros. */
  readonly zeros: Buffer;
  /** Waits when packs of tree nodes have to be written. */
  readonly drain: () => Promise<void>;
  readonly onWarning: (warning: MachineWarning) => void;
  readonly onSnapshot: (level: ConsistencyLevel) => void;
  readonly now: () => number;
  readonly stopped: () => boolean;
}

export interface CapturedMachine {
  readonly top: TreeEntry;
  readonly machine: StoredMachine;
  readonly changeIds: ChangeIds;
  readonly blocks: BlockCounts;
  /** Bytes of the blocks that hold data, on all disks. */
  readonly held: number;
  /** Disks left out. */
  readonly leftOut: readonly string[];
}

const batchBytes = 1 << 20;
const atOnce = 8;
/** Where a disk is read: from its snapshot, or where it lies. */
interface ReadFrom {
  readonly disk: string;
  readonly snapshot: string;
  readonly straight: StraightDisk | undefined;
}

type OnBlock = (map: ImageMap, block: number, name: Uint8Array) => void;

/** What the names of our snapshots begin with; the id of the task follows. */
const snapshotPrefix = 'lithodex-';

/** Takes a machine with its disks as they are at one instant and stores it. Throws SourceError. */
export class MachineCapture {
  readonly progress: MachineProgress = { items: 0, bytes: 0, read: 0 };
  private held = 0;
  private readonly counts: BlockCounts = { before: 0, added: 0, changed: 0, removed: 0, random: 0 };

  constructor(private readonly options: MachineCaptureOptions) {}

  async run(): Promise<CapturedMachine> {
    const { client, machineId, filter } = this.options;
    const machine = await client.machine(machineId);
    await this.removeLeftovers(machine);
    const snapshot = await this.takeSnapshot(machine);
    try {
      this.options.onSnapshot(snapshot.level);
      const files = diskFiles(machine.disks);
      const at = BigInt(this.options.now()) * 1_000_000n;
      const leftOut: string[] = [];
      const stored: (PlatformDisk & { file: string })[] = [];
      const entries: TreeEntry[] = [];
      for (const [i, disk] of machine.disks.entries()) {
        const file = joinPath(disksFolder, files[i]!);
        const out = filter.leftOut(file, false);
        stored.push({ ...disk, file: out ? '' : file });
        if (out) leftOut.push(file);
        else entries.push(await this.disk(snapshot, disk, file, at));
        this.progress.items++;
      }
      const { snapshots, ...facts } = machine;
      const settings: StoredMachine = {
        format: 1,
        ...facts,
        cluster: this.options.cluster,
        location: this.options.location,
        level: snapshot.level,
        disks: stored,
      };
      const top = await this.tree(settings, entries, at);
      await this.options.pool.idle();
      const changeIds = Object.fromEntries(snapshot.disks.map((d) => [d.id, d.changeId]));
      return { top, machine: settings, changeIds, blocks: this.counts, held: this.held, leftOut };
    } finally {
      await this.removeSnapshot(machineId, snapshot.id);
    }
  }

  /** Snapshots of runs that were killed are the only thing they left on the platform; their names say whose they are. */
  private async removeLeftovers({ id, snapshots }: PlatformMachine): Promise<void> {
    const ours = snapshots.filter((s) => s.name.startsWith(snapshotPrefix));
    if (!ours.length) return;
    const taskOf = (name: string) => name.slice(snapshotPrefix.length);
    const alive = await this.options.alive(ours.map((s) => taskOf(s.name)));
    for (const { id: snapshot, name } of ours)
      if (taskOf(name) === this.options.taskId || !alive.includes(taskOf(name))) await this.removeSnapshot(id, snapshot);
  }

  private async removeSnapshot(machineId: string, snapshot: string): Promise<void> {
    try {
      await this.options.client.removeSnapshot(machineId, snapshot);
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      this.options.onWarning({ code: 'SNAPSHOT_STAYS', path: '', cause: error.message });
    }
  }

  /** A machine that runs is brought to rest where it can be; where that fails its disks are taken as after a loss of power. */
  private async takeSnapshot(machine: PlatformMachine): Promise<TakenSnapshot> {
    const { client, taskId, inside } = this.options;
    const name = snapshotPrefix + taskId;
    try {
      return await client.takeSnapshot(machine.id, name, !machine.running || machine.helper || inside !== undefined, inside);
    } catch (error) {
      if (!restErrors.some((code) => isSourceError(error, code))) throw error;
      const taken = await client.takeSnapshot(machine.id, name, false);
      this.options.onWarning({ code: 'NOT_QUIET', path: '', cause: (error as SourceError).details });
      return taken;
    }
  }

  private async disk({ id: snapshot, disks }: TakenSnapshot, disk: PlatformDisk, file: string, at: bigint): Promise<TreeEntry> {
    const { previous, trees, rereads, zeros } = this.options;
    const size = disks.find((d) => d.id === disk.id)?.size ?? disk.size;
    const before = previous && (await entryAt(trees, previous.top, file));
    const changed = before && (await this.changedSince(snapshot, disk.id, file));
    // the list of the point before is loaded while the first changes are read
    const loading = before ? ImageMap.of(before, trees, zeros) : Promise.resolve(undefined);
    const mapping = loading.then((old) => this.mapFrom(old, size));
    mapping.catch(() => undefined);
    let touched = before?.size !== size;
    const onBlock: OnBlock = (map, block, name) => {
      const change = map.set(block, name);
      if (change === 'same') return;
      touched = true;
      this.counts[change]++;
    };
    const straight = await this.options.straight?.(disk);
    try {
      const from = { disk: disk.id, snapshot, straight };
      if (changed && !rereads) await this.read(from, mapping, size, changed, onBlock);
      if (!changed || rereads || !(await loading)) await this.readAll(from, await mapping, changed, file, onBlock);
      if (straight) await this.readAgain(from, disks.find((d) => d.id === disk.id)?.changeId, mapping, size, onBlock);
    } finally {
      straight?.close();
    }
    const map = await mapping;
    this.held += map.used * imageBlock;
    if (before && !touched) return before;
    const { ranges = [], content } = map.stored(this.options.put);
    await this.options.drain();
    return {
      name: file.slice(disksFolder.length + 1),
      kind: 'file',
      mode: 0o600,
      uid: 0,
      gid: 0,
      mtimeNs: at,
      ctimeNs: at,
      inode: 0,
      size,
      ranges,
      ...(content && { content }),
    };
  }

  /** The map to be brought up to date: that of the point before, made as long as the disk is now. */
  private mapFrom(old: ImageMap | undefined, size: number): ImageMap {
    this.counts.before += old?.used ?? 0;
    if (old?.size === size) return old;
    const map = new ImageMap(size);
    if (old) map.takeOver(old);
    return map;
  }

  /** What the platform says was written since the point before; undefined when it can't say. */
  private async changedSince(snapshot: string, disk: string, file: string): Promise<readonly DiskRange[] | undefined> {
    const since = this.options.previous?.changeIds[disk];
    if (since === undefined) return undefined;
    try {
      return await this.options.client.ranges(this.options.machineId, disk, { snapshot, since });
    } catch (error) {
      if (!isSourceError(error, 'CHANGES_UNKNOWN')) throw error;
      if (!this.options.rereads) this.options.onWarning({ code: 'CHANGES_UNKNOWN', path: file, cause: (error as SourceError).details });
      return undefined;
    }
  }

  /** Reads all that was ever written; what the platform calls unchanged although it is not is told. */
  private async readAll(
    from: ReadFrom,
    map: ImageMap,
    changed: readonly DiskRange[] | undefined,
    file: string,
    onBlock: OnBlock,
  ): Promise<void> {
    const { client, machineId, onWarning } = this.options;
    const ranges = alignRanges(await client.ranges(machineId, from.disk, { snapshot: from.snapshot }), imageBlock, map.size);
    const said = new Set<number>();
    for (const [offset, length] of alignRanges(changed ?? [], imageBlock, map.size))
      for (let block = offset / imageBlock; block * imageBlock < offset + length; block++) said.add(block);
    const written = new Uint8Array(map.blocks);
    let unseen = 0;
    await this.read(from, Promise.resolve(map), map.size, ranges, (_map, block, name) => {
      written[block] = 1;
      const before = map.name(block);
      if (changed && !said.has(block) && !sameName(before, name)) unseen++;
      onBlock(map, block, name);
    });
    for (let block = 0; block < map.blocks; block++) if (!written[block] && map.name(block)) onBlock(map, block, hole);
    if (unseen) onWarning({ code: 'CHANGED_UNSEEN', path: file, cause: String(unseen) });
  }

  /** What the machine wrote since its snapshot may have been read half old, half new where it lies: the snapshot is asked for it. */
  private async readAgain(
    from: ReadFrom,
    changeId: string | undefined,
    mapping: Promise<ImageMap>,
    size: number,
    onBlock: OnBlock,
  ): Promise<void> {
    const { client, machineId } = this.options;
    const written = changeId === undefined ? [[0, size] as const] : await client.ranges(machineId, from.disk, { since: changeId });
    await this.read({ ...from, straight: undefined }, mapping, size, written, onBlock);
  }

  private async read(
    { disk, snapshot, straight }: ReadFrom,
    mapping: Promise<ImageMap>,
    size: number,
    ranges: readonly DiskRange[],
    onBlock: OnBlock,
  ): Promise<void> {
    const { client, machineId, pool, drain, stopped } = this.options;
    const work = new SlidingWork(atOnce);
    for (const batch of batchRanges(alignRanges(ranges, imageBlock, size), batchBytes)) {
      if (stopped()) throw new EngineError('STOPPED');
      await work.add(async () => {
        const data = straight ? straight.read(batch) : await client.read(machineId, disk, batch, snapshot);
        this.progress.read += data.length;
        const { names, random } = await pool.blocks({ data, block: imageBlock });
        this.counts.random += random;
        this.progress.bytes += lengthOf(batch);
        const map = await mapping;
        let at = 0;
        for (const [offset, length] of batch)
          for (let block = offset / imageBlock; block * imageBlock < offset + length; block++) {
            onBlock(map, block, names.subarray(at, at + 32));
            at += 32;
          }
      });
      await drain();
    }
    await work.idle();
  }

  private async tree(machine: StoredMachine, disks: readonly TreeEntry[], at: bigint): Promise<TreeEntry> {
    const { put, drain, previous, trees } = this.options;
    const plain = { uid: 0, gid: 0, mtimeNs: at, ctimeNs: at, inode: 0, size: 0 };
    const builder = new FolderBuilder(put);
    for (const entry of [...disks].sort((a, b) => (a.name < b.name ? -1 : 1))) builder.add(packEntry(entry));
    const folder = { ...plain, kind: 'folder' as const, mode: 0o700 };
    const text = Buffer.from(`${JSON.stringify(machine, null, 2)}\n`);
    const content = { names: put(text), lengths: [text.length] };
    const before = previous && (await entryAt(trees, previous.top, settingsItem));
    const same = before?.content && 'names' in before.content && before.content.names.equals(content.names);
    const item: TreeEntry = { ...plain, name: settingsItem, kind: 'file', mode: 0o600, size: text.length, content };
    const top = new FolderBuilder(put);
    top.add(packEntry({ ...folder, name: disksFolder, folder: builder.finish() }));
    top.add(packEntry(same ? before : item));
    this.progress.items++;
    await drain();
    return { ...folder, name: '', folder: top.finish() };
  }
}

const hole = Buffer.alloc(32);

function sameName(before: Buffer | undefined, now: Uint8Array): boolean {
  return (before ?? hole).equals(now);
}

/** The entry at a path; undefined where the point has none. */
export async function entryAt(trees: TreeReader, top: TreeEntry, path: string): Promise<TreeEntry | undefined> {
  try {
    return await trees.find(top, path);
  } catch (error) {
    if (error instanceof EngineError && error.code === 'PATH_MISSING') return undefined;
    throw error;
  }
}
