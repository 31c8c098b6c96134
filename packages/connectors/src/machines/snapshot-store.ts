import { randomBytes } from 'node:crypto';
import { alignRanges, type DiskRange } from '@lithodex/core';
import {
  byName,
  ByteWriter,
  EngineError,
  namesPerList,
  nodeKind,
  TreeReader,
  writeContent,
  writeEntry,
  type TreeEntry,
} from '@lithodex/engine';
import type { OpenPoint } from '../connector';
import { imageBlock } from './image-map';
import { machineContent } from './machine-content';
import { diskFiles, disksFolder, settingsItem, type StoredMachine } from './machine-item';
import type { PlatformClient } from './platform-client';
import type { SnapshotAt } from './platform-types';
import { machineIn, storageSnapshot } from './snapshot-source';

const nameBytes = 32;
/** What a name leads to; then the number of a disk and of a block or list, in four bytes each. */
const codes = { top: 1, disks: 2, settings: 3, list: 4, block: 5 } as const;
/** Blocks that are fetched at once, and fetches that are kept. */
const blocksAtOnce = 16;
const fetchesKept = 64;

interface Disk {
  readonly id: string;
  readonly ranges: readonly DiskRange[];
  /** Blocks that hold data, by their places. */
  readonly blocks: Uint32Array;
  readonly size: number;
}

function nameOf(code: number, disk = 0, number = 0): Buffer {
  const name = Buffer.alloc(nameBytes);
  name[0] = code;
  name.writeUInt32LE(disk, 1);
  name.writeUInt32LE(number, 5);
  return name;
}

/**
 * A machine in a snapshot of its storage as a point: its folders, settings and disks have names that say where they are, and are read from the storage when they are asked for. Nothing
 * of it is stored by us. Throws SourceError.
 */
export async function snapshotPoint(
  client: PlatformClient,
  at: SnapshotAt,
  of: { readonly machine: string; readonly taskId: string; readonly seriesId: string; readonly cluster: string; readonly location: string },
): Promise<OpenPoint> {
  const { takenAt } = await storageSnapshot(client, at);
  const { snapshots: _, ...machine } = await machineIn(client, at, of.machine);
  const files = diskFiles(machine.disks);
  const stored: StoredMachine = {
    format: 1,
    ...machine,
    cluster: of.cluster,
    location: of.location,
    level: 'crash',
    disks: machine.disks.map((disk, i) => ({ ...disk, file: `${disksFolder}/${files[i]!}` })),
  };
  const disks: Disk[] = [];
  for (const { id, size } of machine.disks) {
    const ranges = alignRanges(await client.snapshotRanges(at, id), imageBlock, size);
    disks.push({ id, size, ranges, blocks: blocksOf(ranges) });
  }
  const chunks = new SnapshotChunks(client, at, disks, stored, files, BigInt(takenAt) * 1_000_000n);
  const trees = new TreeReader(chunks);
  const { top } = chunks;
  return {
    kept: undefined,
    store: { trees, reader: chunks, keys: { nameKey: randomBytes(nameBytes) } },
    top,
    root: {
      format: 1,
      taskId: of.taskId,
      seriesId: of.seriesId,
      workload: { id: of.machine, name: machine.name, source: '', path: '' },
      moment: takenAt,
      committed: takenAt,
      kind: 'full',
      previous: null,
      top: '',
      totals: { items: 0, files: 0, bytes: 0, read: 0, fresh: 0, stored: 0 },
      owners: {},
      groups: {},
      leftOut: { include: [], exclude: [], byItself: [] },
      warnings: 0,
      content: machineContent(stored, {}, { before: 0, added: 0, changed: 0, removed: 0, random: 0 }),
    },
  };
}

function blocksOf(ranges: readonly DiskRange[]): Uint32Array {
  const blocks = new Uint32Array(ranges.reduce((sum, [, length]) => sum + Math.ceil(length / imageBlock), 0));
  let at = 0;
  for (const [offset, length] of ranges)
    for (let block = offset / imageBlock; block * imageBlock < offset + length; block++) blocks[at++] = block;
  return blocks;
}

class SnapshotChunks {
  private readonly fetched = new Map<string, Promise<Buffer>>();

  constructor(
    private readonly client: PlatformClient,
    private readonly at: SnapshotAt,
    private readonly disks: readonly Disk[],
    private readonly machine: StoredMachine,
    private readonly files: readonly string[],
    private readonly takenNs: bigint,
  ) {}

  private get settings(): Buffer {
    return Buffer.from(`${JSON.stringify(this.machine, null, 2)}\n`);
  }

  get top(): TreeEntry {
    return this.folder('', codes.top);
  }

  private folder(name: string, code: number): TreeEntry {
    return { ...this.plain, name, kind: 'folder', mode: 0o700, folder: { node: nameOf(code), items: 0, bytes: 0 } };
  }

  private get plain() {
    return { uid: 0, gid: 0, mtimeNs: this.takenNs, ctimeNs: this.takenNs, inode: 0, size: 0 };
  }

  read(name: Buffer): Promise<Buffer> {
    const [disk, number] = [name.readUInt32LE(1), name.readUInt32LE(5)];
    switch (name[0]) {
      case codes.top: {
        const text = this.settings;
        const content = { names: nameOf(codes.settings), lengths: [text.length] };
        const item: TreeEntry = { ...this.plain, name: settingsItem, kind: 'file', mode: 0o600, size: text.length, content };
        return Promise.resolve(nodeOf([this.folder(disksFolder, codes.disks), item]));
      }
      case codes.disks:
        return Promise.resolve(nodeOf(this.disks.map((_, i) => this.diskItem(i))));
      case codes.settings:
        return Promise.resolve(this.settings);
      case codes.list:
        return Promise.resolve(this.list(disk, number));
      default:
        return this.block(disk, number);
    }
  }

  private diskItem(disk: number): TreeEntry {
    const { size, ranges, blocks } = this.disks[disk]!;
    const lists = Math.ceil(blocks.length / namesPerList);
    const content = { lists: Buffer.concat(Array.from({ length: lists }, (_, i) => nameOf(codes.list, disk, i))), count: blocks.length };
    return { ...this.plain, name: this.files[disk]!, kind: 'file', mode: 0o600, size, ranges, ...(blocks.length && { content }) };
  }

  private list(disk: number, number: number): Buffer {
    const { blocks, size } = this.disks[disk]!;
    const own = blocks.subarray(number * namesPerList, (number + 1) * namesPerList);
    const w = new ByteWriter();
    writeContent(w, {
      names: Buffer.concat(Array.from(own, (block) => nameOf(codes.block, disk, block))),
      lengths: Array.from(own, (block) => Math.min(imageBlock, size - block * imageBlock)),
    });
    return Buffer.from(w.take());
  }

  /** A block, with those beside it. */
  private async block(disk: number, block: number): Promise<Buffer> {
    const { size } = this.disks[disk]!;
    const first = block - (block % blocksAtOnce);
    const key = `${disk} ${first}`;
    const known =
      this.fetched.get(key) ?? this.fetch(disk, first * imageBlock, Math.min(blocksAtOnce * imageBlock, size - first * imageBlock));
    this.fetched.delete(key);
    this.fetched.set(key, known);
    known.catch(() => this.fetched.delete(key));
    for (const oldest of this.fetched.keys()) {
      if (this.fetched.size <= fetchesKept) break;
      this.fetched.delete(oldest);
    }
    const from = (block - first) * imageBlock;
    return (await known).subarray(from, Math.min(from + imageBlock, size - first * imageBlock));
  }

  private fetch(disk: number, offset: number, length: number): Promise<Buffer> {
    const { id } = this.disks[disk]!;
    if (length <= 0) throw new EngineError('OBJECT_MISSING', 'a block behind the end of a disk');
    return this.client.readSnapshot(this.at, id, [[offset, length]]);
  }
}

function nodeOf(entries: readonly TreeEntry[]): Buffer {
  const w = new ByteWriter();
  w.u8(nodeKind.leaf);
  w.varint(entries.length);
  for (const entry of [...entries].sort(byName)) writeEntry(w, entry);
  return Buffer.from(w.take());
}
