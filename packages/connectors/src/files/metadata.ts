import fs from 'node:fs';
import { posix, systemCode, type TreeEntry } from '@lithodex/engine';

/** Sets owner, mode, extended attributes and time of an entry itself (never of what a link points to); returns what could not be set. */
export function applyMetadata(path: Buffer, entry: TreeEntry): string[] {
  const failed: string[] = [];
  const attempt = (what: string, act: () => void) => {
    try {
      act();
    } catch (error) {
      failed.push(`${what} (${systemCode(error) ?? String(error)})`);
    }
  };
  attempt('owner', () => {
    fs.lchownSync(path, entry.uid, entry.gid);
  });
  if (entry.kind !== 'link')
    attempt('mode', () => {
      fs.chmodSync(path, entry.mode);
    });
  for (const [key, value] of entry.attributes ?? [])
    attempt(`attribute ${key}`, () => {
      posix.writeAttribute(path, key, value);
    });
  attempt('time', () => {
    posix.setModified(path, entry.mtimeNs);
  });
  return failed;
}

const typeBits = { fifo: 0o010000, char: 0o020000, block: 0o060000, socket: 0o140000 } as const;

/** Makes a fifo, device or socket. */
export function makeSpecial(path: Buffer, entry: TreeEntry): void {
  if (!(entry.kind in typeBits)) throw new TypeError(entry.kind);
  posix.makeNode(path, typeBits[entry.kind as keyof typeof typeBits] | 0o600, entry.device ?? 0);
}
