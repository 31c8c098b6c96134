import { createHash, randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import { seal, subkey, unseal, type KeySet } from '../keys/key-set';
import { compress, decompress } from '../native/zstd';

/**
 * What was read of the source: everything, what changed since the newest point, what changed since the newest full one, or nothing (a full put together from what the target
 * holds, all of it read again there).
 */
export type PointKind = 'full' | 'incremental' | 'differential' | 'synthetic';

/** The commit point of a backup: everything needed to find and describe one recovery point. */
export interface Root {
  readonly format: 1;
  readonly taskId: string;
  readonly seriesId: string;
  readonly workload: { readonly id: string; readonly name: string; readonly source: string; readonly path: string };
  /** Instant the point stands for and instant of commit, ms. */
  readonly moment: number;
  readonly committed: number;
  readonly kind: PointKind;
  /** The point it builds on and the SHA-256 of that root's file: chains the roots of a series. */
  readonly previous: { readonly taskId: string; readonly sum: string } | null;
  /** Task id of the point that unchanged entries were taken over from; absent when everything was read. */
  readonly base?: string;
  /** The top folder as a tree entry, in the binary form of the tree nodes, base64. */
  readonly top: string;
  readonly totals: RootTotals;
  /** Names of the owners and groups by number, as they were. */
  readonly owners: Record<string, string>;
  readonly groups: Record<string, string>;
  readonly leftOut: { readonly include: readonly string[]; readonly exclude: readonly string[]; readonly byItself: readonly string[] };
  readonly warnings: number;
  /** Of a machine that was taken from its platform. */
  readonly machine?: MachineRoot;
  /** Until when neither the point nor anything it needs can be removed from this target, ms. */
  readonly lockedUntil?: number;
  /** Set on copies: the target it was copied from, and when. `previous.sum` is then that of the root there. */
  readonly copied?: { readonly from: string; readonly at: number };
}

export interface MachineRoot {
  /** What it was called, where it was and which disks it had; `file`: path of the item, '' where a disk was left out. */
  readonly place: {
    readonly name: string;
    readonly cluster: string;
    readonly location: string;
    readonly host: string;
    readonly folder: string;
    readonly networks: readonly string[];
    readonly tags: readonly string[];
    readonly disks: readonly {
      readonly id: string;
      readonly label: string;
      readonly size: number;
      readonly storage: string;
      readonly file: string;
    }[];
  };
  /** By id of the disk: what the platform names this point in time by, for changes since. */
  readonly changeIds: Readonly<Record<string, string>>;
  /** Whether programs inside had been brought to rest, or the disks are as after a loss of power. */
  readonly level: 'crash' | 'application';
  /** Blocks that held data before, and what became of them; `random`: read ones that look random. */
  readonly blocks: {
    readonly before: number;
    readonly added: number;
    readonly changed: number;
    readonly removed: number;
    readonly random: number;
  };
}

export interface RootTotals {
  readonly items: number;
  readonly files: number;
  /** Bytes of all files at full size. */
  readonly bytes: number;
  /** Bytes read from the source in this run. */
  readonly read: number;
  /** New bytes before compression, and bytes written to the target. */
  readonly fresh: number;
  readonly stored: number;
}

const magic = Buffer.from('LXROOT1\n');

/**
 * Name of a root: that of the task that took the point, or, for a copy from another target, with the task that made the copy behind it, so that no two attempts
 * that may be given up share a name.
 */
export function rootName(seriesId: string, taskId: string, copyTask = ''): string {
  return `roots/${seriesId}/${taskId}${copyTask && `.${copyTask}`}`;
}

/** The task that took the point of a root, from the last part of its name. */
export function taskOfRoot(name: string): string {
  return name.split('.', 1)[0]!;
}

/** Root file: magic (8) · nonce (12) · raw length (u32) · sealed zstd of the JSON. The key belongs to the name `at`. */
export function encodeRoot(keys: KeySet, at: string, root: Root): Buffer {
  const raw = Buffer.from(JSON.stringify(root));
  const nonce = randomBytes(12);
  const length = Buffer.alloc(4);
  length.writeUInt32LE(raw.length);
  const name = Buffer.from(at);
  return Buffer.concat([magic, nonce, length, seal(subkey(keys, 'root', name), nonce, Buffer.concat([name, length]), compress(raw))]);
}

/** Throws OBJECT_DAMAGED when the file is not the root of this name. */
export function decodeRoot(keys: KeySet, text: string, file: Buffer): Root {
  const name = Buffer.from(text);
  const length = file.subarray(20, 24);
  if (file.length < 40 || !file.subarray(0, 8).equals(magic)) throw new EngineError('OBJECT_DAMAGED', text);
  const packed = unseal(subkey(keys, 'root', name), file.subarray(8, 20), Buffer.concat([name, length]), file.subarray(24));
  const raw = packed && decompress(packed, length.readUInt32LE(0));
  if (!raw) throw new EngineError('OBJECT_DAMAGED', text);
  const root = JSON.parse(raw.toString()) as Root;
  if (root.format !== 1) throw new EngineError('STORE_VERSION', text);
  return root;
}

/** What takes the place of the root of a task that was given up, so that it can never commit. */
export const voidRoot = Buffer.from('LXVOID1\n');

export function rootSum(file: Buffer): string {
  return createHash('sha256').update(file).digest('hex');
}
