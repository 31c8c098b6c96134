import fs from 'node:fs';
import { modeOpen, ownOpen, posix, systemCode, type TreeEntry } from '@lithodex/engine';

/** The calls that set the properties of one entry. */
interface Setters {
  owner(uid: number, gid: number): void;
  mode(mode: number): void;
  attribute(name: string, value: Uint8Array): void;
  modified(mtimeNs: bigint): void;
}

/** In this order: changing the owner clears setuid bits and capabilities, and everything changes the time. */
function apply(entry: TreeEntry, set: Setters): string[] {
  const failed: string[] = [];
  const attempt = (what: string, act: () => void) => {
    try {
      act();
    } catch (error) {
      failed.push(`${what} (${systemCode(error) ?? String(error)})`);
    }
  };
  attempt('owner', () => {
    set.owner(entry.uid, entry.gid);
  });
  if (entry.kind !== 'link')
    attempt('mode', () => {
      set.mode(entry.mode);
    });
  for (const [key, value] of entry.attributes ?? [])
    attempt(`attribute ${key}`, () => {
      set.attribute(key, value);
    });
  attempt('time', () => {
    set.modified(entry.mtimeNs);
  });
  return failed;
}

/** Sets owner, mode, extended attributes and time of an entry itself (never of what a link leads to); returns what could not be set. */
export function applyMetadata(path: Buffer, entry: TreeEntry): string[] {
  return apply(entry, {
    owner: (uid, gid) => {
      fs.lchownSync(path, uid, gid);
    },
    mode: (mode) => {
      fs.chmodSync(path, mode);
    },
    attribute: (name, value) => {
      posix.writeAttribute(path, name, value);
    },
    modified: (mtimeNs) => {
      posix.setModified(path, mtimeNs);
    },
  });
}

/** The same for an open file, which may have no name yet. */
export function applyMetadataOpen(fd: number, entry: TreeEntry): string[] {
  return apply(entry, {
    owner: (uid, gid) => {
      ownOpen(fd, uid, gid);
    },
    mode: (mode) => {
      modeOpen(fd, mode);
    },
    attribute: (name, value) => {
      posix.writeAttributeOpen(fd, name, value);
    },
    modified: (mtimeNs) => {
      posix.setModifiedOpen(fd, mtimeNs);
    },
  });
}

const typeBits = { fifo: 0o010000, char: 0o020000, block: 0o060000, socket: 0o140000 } as const;

/** Makes a fifo, device or socket. */
export function makeSpecial(path: Buffer, entry: TreeEntry): void {
  if (!(entry.kind in typeBits)) throw new TypeError(entry.kind);
  posix.makeNode(path, typeBits[entry.kind as keyof typeof typeBits] | 0o600, entry.device ?? 0);
}
