import { createHash, randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import { seal, subkey, unseal, type KeySet } from '../keys/key-set';
import { compress, decompress } from '../native/zstd';

/**
 * What was read of the source: everything, what changed since the newest point, what changed since the newest full one,, nothing (a full put together from what the target
 * holds, all of it read again there), or the log of changes alone.
 */
export type PointKind = 'full' | 'incremental' | 'differential' | 'synthetic' | 'log';

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
  /** What kind of workload it is of, and what the connector of that kind says. */
  readonly content: KindContent;
  /** Until when neither the point nor anything it needs can be removed from this target, ms. */
  readonly lockedUntil?: number;
  /** Set on copies: the target it was copied from, and when. `previous.sum` is then that of the root there. */
  readonly copied?: { readonly from: string; readonly at: number };
}

/** What a connector keeps with a point, in a form of its own. */
export interface KindContent {
  readonly kind: string;
  /** Of the form of what follows. */
  readonly version: number;
  /** What people are told of it. */
  readonly facts: unknown;
  /** What the next capture has to know. */
  readonly state: unknown;
  /** Where its changes are not counted in files: what was there before, and what became of it; `random`: read and looking random. */
  readonly changes?: BlockChanges;
}

export interface BlockChanges {
  readonly before: number;
  readonly added: number;
  readonly changed: number;
  readonly removed: number;
  readonly random: number;
}

/** Roots of before said what they held only where it was a machine. */
interface RootOfBefore extends Omit<Root, 'content'> {
  readonly content?: KindContent;
  readonly machine?: {
    readonly place: object;
    readonly changeIds: Readonly<Record<string, string>>;
    readonly level: string;
    readonly blocks: BlockChanges;
  };
}

const filesOfBefore: KindContent = { kind: 'files', version: 1, facts: {}, state: {} };

function ofNow({ machine, ...root }: RootOfBefore): Root {
  if (root.content) return { ...root, content: root.content };
  if (!machine) return { ...root, content: filesOfBefore };
  const { place, level, changeIds, blocks } = machine;
  return { ...root, content: { kind: 'machine', version: 1, facts: { ...place, level }, state: { changeIds }, changes: blocks } };
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
  const root = JSON.parse(raw.toString()) as RootOfBefore;
  if (root.format !== 1) throw new EngineError('STORE_VERSION', text);
  return ofNow(root);
}

/** What takes the place of the root of a task that was given up, so that it can never commit. */
export const voidRoot = Buffer.from('LXVOID1\n');

export function rootSum(file: Buffer): string {
  return createHash('sha256').update(file).digest('hex');
}
