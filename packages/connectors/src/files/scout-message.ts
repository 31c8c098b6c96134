import type { FileFacts, posix } from '@lithodex/engine';

/** What a scout is started with. `port`: where requests come and replies go. */
export interface ScoutStart {
  readonly states: SharedArrayBuffer;
  readonly port: import('node:worker_threads').MessagePort;
}

/** A folder that is to be listed ahead: below an open one, as a byte string. */
export interface ScoutRequest {
  readonly id: number;
  readonly top: number;
  readonly path: string;
  readonly account: posix.Account | undefined;
}

/** What was found: names, and what is known of each. */
export interface ScoutReply {
  readonly id: number;
  /** Names sorted by bytes, as bytes with a slash between; null where the folder was not listed: who wants it does so, and finds out why. */
  readonly names: Uint8Array | null;
  readonly facts: Float64Array;
  /** Names about which nothing could be found out: their places, and the system's codes. */
  readonly failed: readonly (readonly [place: number, code: string])[];
}

/** Who lists a folder. */
export const scoutStates = { waiting: 0, scout: 1, walk: 2, done: 3 } as const;
/** Requests that are known at a time: more than are open, so that one that was taken back is not mixed up with another. */
export const scoutPlaces = 64;
/** The state of a request, at the place of its number. */
export const stateOf = (id: number, state: (typeof scoutStates)[keyof typeof scoutStates]): number => (id << 2) | state;

/** Numbers that are kept of a file. */
export const factsLength = 11;

/** Writes down what is known of a file. */
export function putFacts(to: Float64Array, place: number, f: FileFacts): void {
  const at = place * factsLength;
  to[at] = f.mode;
  to[at + 1] = f.uid;
  to[at + 2] = f.gid;
  to[at + 3] = f.links;
  to[at + 4] = f.device;
  to[at + 5] = f.inode;
  to[at + 6] = f.size;
  to[at + 7] = f.mtimeSeconds;
  to[at + 8] = f.mtimeNanos;
  to[at + 9] = f.ctimeSeconds;
  to[at + 10] = f.ctimeNanos;
}

/** Reads what {@link putFacts} wrote. */
export function getFacts(from: Float64Array, place: number, f: FileFacts): void {
  const at = place * factsLength;
  f.mode = from[at]!;
  f.uid = from[at + 1]!;
  f.gid = from[at + 2]!;
  f.links = from[at + 3]!;
  f.device = from[at + 4]!;
  f.inode = from[at + 5]!;
  f.size = from[at + 6]!;
  f.mtimeSeconds = from[at + 7]!;
  f.mtimeNanos = from[at + 8]!;
  f.ctimeSeconds = from[at + 9]!;
  f.ctimeNanos = from[at + 10]!;
}
