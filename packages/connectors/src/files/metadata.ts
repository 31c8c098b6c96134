import fs from 'node:fs';
import { instantOf, modeOpen, ownOpen, posix, systemCode, type Instant, type TreeEntry } from '@lithodex/engine';

/** The properties of an entry that are set when it is restored. */
export interface Properties extends Pick<TreeEntry, 'kind' | 'uid' | 'gid' | 'mode' | 'attributes'> {
  readonly mtime: Instant;
}

/** The extended attributes that an entry had where it was read: what we note with it is none of them, and leaves the store with nothing. */
export function ownAttributes({ attributes }: Pick<TreeEntry, 'attributes'>): NonNullable<TreeEntry['attributes']> {
  return attributes?.filter(([key]) => !key.startsWith('lithodex.')) ?? [];
}

/** Those of an entry. */
export function propertiesOf(entry: TreeEntry): Properties {
  const { kind, uid, gid, mode, mtimeNs } = entry;
  const attributes = ownAttributes(entry);
  return { kind, uid, gid, mode, ...(attributes.length > 0 && { attributes }), mtime: instantOf(mtimeNs) };
}

/** The calls that set the properties of one entry. */
interface Setters {
  owner(uid: number, gid: number): void;
  mode(mode: number): void;
  attribute(name: string, value: Uint8Array): void;
  modified(at: Instant): void;
}

/** In this order: changing the owner clears setuid bits and capabilities, and everything changes the time. */
function apply(entry: Properties, set: Setters): string[] {
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
    set.modified(entry.mtime);
  });
  return failed;
}

/** Sets the permission bits of an entry that is no link; what a link put in its place leads to is left alone. */
function changeMode(path: Buffer, mode: number): void {
  const pathOnly = 0o10000000;
  const fd = fs.openSync(path, pathOnly | fs.constants.O_NOFOLLOW);
  try {
    fs.chmodSync(`/proc/self/fd/${fd}`, mode);
  } finally {
    fs.closeSync(fd);
  }
}

/** Sets owner, mode, extended attributes and time of an entry itself (never of what a link leads to); returns what could not be set. */
export function applyMetadata(path: Buffer, entry: TreeEntry): string[] {
  return apply(propertiesOf(entry), {
    owner: (uid, gid) => {
      fs.lchownSync(path, uid, gid);
    },
    mode: (mode) => {
      changeMode(path, mode);
    },
    attribute: (name, value) => {
      posix.writeAttribute(path, name, value);
    },
    modified: (at) => {
      posix.setModified(path, at);
    },
  });
}

/** The same for an open file, which may have no name yet. */
export function applyMetadataOpen(fd: number, entry: Properties): string[] {
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
    modified: (at) => {
      posix.setModifiedOpen(fd, at);
    },
  });
}

const typeBits = { fifo: 0o010000, char: 0o020000, block: 0o060000, socket: 0o140000 } as const;

/** Makes a fifo, device or socket. */
export function makeSpecial(path: Buffer, entry: TreeEntry): void {
  if (!(entry.kind in typeBits)) throw new TypeError(entry.kind);
  posix.makeNode(path, typeBits[entry.kind as keyof typeof typeBits] | 0o600, entry.device ?? 0);
}
