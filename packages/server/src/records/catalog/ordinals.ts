import { createHash } from 'node:crypto';
import { escapePath } from '@lithodex/core';

/** An interval that has not ended. Fits a JavaScript number. */
export const openEnd = Number.MAX_SAFE_INTEGER;
/** Distance between the ordinals of two points, so that late arrivals fit between. */
export const ordinalStep = 1024;

/** How an item's interval ended. */
export const endings = { open: 0, replaced: 1, gone: 2, unseen: 3 } as const;

export const kindCodes = ['file', 'folder', 'link', 'fifo', 'char', 'block', 'socket'] as const;

/** Key of a folder path (byte string): 16 bytes. */
export function pathHash(path: string): Buffer {
  return createHash('sha256').update(path, 'latin1').digest().subarray(0, 16);
}

/** Text a name is searched by, and its key. */
export function foldName(name: string): { folded: string; hash: string } {
  const folded = escapePath(name).normalize('NFC').toLowerCase().slice(0, 1000);
  return { folded, hash: createHash('sha256').update(folded).digest().readBigInt64LE(0).toString() };
}
