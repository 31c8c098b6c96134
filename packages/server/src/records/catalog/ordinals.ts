import { hash } from 'node:crypto';

/** An interval that has not ended. Fits a JavaScript number. */
export const openEnd = Number.MAX_SAFE_INTEGER;
/** Distance between the ordinals of two points, so that late arrivals fit between. */
export const ordinalStep = 1024;

/** How an item's interval ended. */
export const endings = { open: 0, replaced: 1, gone: 2, unseen: 3 } as const;

export const kindCodes = ['file', 'folder', 'link', 'fifo', 'char', 'block', 'socket'] as const;

/** Key of a folder path (byte string): 16 bytes. */
export function pathHash(path: string): Buffer {
  return hash('sha256', Buffer.from(path, 'latin1'), 'buffer').subarray(0, 16);
}
