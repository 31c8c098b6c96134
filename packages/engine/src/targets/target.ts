import type { TargetPlace } from './place';

export interface Room {
  /** Bytes used by the store, and free on its volume; null where nobody can tell, as in a bucket. */
  readonly used: number;
  readonly free: number | null;
}

/**
 * A place that keeps named objects. Names use `/` and plain ASCII. Everything `put` is durable and whole when the promise resolves, or
 * absent when it rejects.
 */
export interface Target {
  readonly description: string;
  /** Where it is, so that a thread can open it on its own. */
  readonly place: TargetPlace;
  put(name: string, data: Uint8Array): Promise<void>;
  /**
   * Creates the object only if the name is free; false when it was taken. This is what makes one winner. With `lockedUntil` (ms) it is locked from its first moment, as by
   * {@link lock}.
   */
  putExclusive(name: string, data: Uint8Array, lockedUntil?: number): Promise<boolean>;
  /** Throws OBJECT_MISSING. */
  read(name: string): Promise<Buffer>;
  /** All that is kept under a name, newest first: more than one where versions are kept. Throws OBJECT_MISSING. */
  readKept(name: string): Promise<Buffer[]>;
  /** Part of an object. `into` lends memory of at least `length` bytes, which the answer may be a view of. Throws OBJECT_MISSING, OBJECT_DAMAGED where it is cut short. */
  readRange(name: string, offset: number, length: number, into?: Buffer): Promise<Buffer>;
  /** Names directly below a prefix ending in '/', sorted. */
  list(prefix: string): Promise<string[]>;
  /** Names of all objects below a prefix ending in '/', at any depth, without it; in no order. */
  listDeep(prefix: string): Promise<string[]>;
  /** Throws OBJECT_LOCKED before its lock has ended. */
  remove(name: string): Promise<void>;
  /** Nobody removes the object before this instant (ms). A lock is made longer, never shorter. Throws OBJECT_MISSING, TARGET_REFUSED where locks can't be had. */
  lock(name: string, until: number): Promise<void>;
  /** Until when an object is locked, ms; 0 when it is not. */
  lockedUntil(name: string): Promise<number>;
  /** Brings back what was first stored under the name of a lockable object, when something else was put over it or it was hidden. False when there is nothing to bring back. */
  reveal(name: string): Promise<boolean>;
  room(): Promise<Room>;
  /** Lets go of what is kept open for reading, so that removed objects give back their room. */
  close(): void;
}
