import fs from 'node:fs';
import { joinPath } from '@lithodex/core';
import { sameEntry, systemCode, withShortPath, type KeySet, type TreeEntry, type TreeReader } from '@lithodex/engine';
import { contentMatches } from './content-check';
import { describeEntry, listNames, statEntry, storedForm, type LiveEntry } from './folder-listing';

/** How an item of a point stands against what is there now. */
export type SinceThen = 'same' | 'changed' | 'gone' | 'new' | 'unknown';

export interface Comparison {
  readonly name: string;
  readonly since: SinceThen;
  readonly then: TreeEntry | undefined;
  readonly now: TreeEntry | undefined;
  /** Whether the bytes are the same, where that was checked. */
  readonly sameContent: boolean | undefined;
}

function live(path: string, name: string): LiveEntry | undefined {
  try {
    return describeEntry(path, name, statEntry(path));
  } catch (error) {
    const code = systemCode(error);
    if (code === 'ENOENT' || code === 'ENOTDIR') return undefined;
    throw error;
  }
}

/** Same facts, content judged by size and time only; a folder is compared by its own properties, its time aside. */
function looksSame(then: TreeEntry, now: TreeEntry): boolean {
  if (then.kind !== now.kind) return false;
  if (then.kind === 'folder') return then.mode === now.mode && then.uid === now.uid && then.gid === now.gid;
  const { content, ranges, random, torn, hardId, ...facts } = then;
  const { hardId: _now, ...nowFacts } = now;
  return sameEntry(facts, nowFacts);
}

/** Compares one item, reading the live content where size or time leave a doubt. */
export async function compareItem(root: string, path: string, then: TreeEntry, trees: TreeReader, keys: KeySet): Promise<Comparison> {
  const now = live(path === '' ? root : `${root}/${path}`, then.name);
  if (!now) return { name: then.name, since: 'gone', then, now: undefined, sameContent: undefined };
  let sameContent: boolean | undefined;
  if (then.kind === 'file' && now.kind === 'file' && !then.unread) {
    const fd = withShortPath(`${root}/${path}`, (p) =>
      fs.openSync(p, fs.constants.O_RDONLY | fs.constants.O_NOFOLLOW | fs.constants.O_NONBLOCK),
    );
    try {
      sameContent = await contentMatches(fd, then, trees, keys);
    } finally {
      fs.closeSync(fd);
    }
  }
  const same = looksSame(then, now) && sameContent !== false;
  return { name: then.name, since: then.unread ? 'unknown' : same ? 'same' : 'changed', then, now: storedForm(now), sameContent };
}

/** Compares the entries of one folder by their facts; what is new there comes along. */
export function compareFolder(root: string, path: string, entries: readonly TreeEntry[]): Comparison[] {
  const base = path === '' ? root : `${root}/${path}`;
  let names: string[];
  try {
    names = listNames(base);
  } catch {
    names = [];
  }
  const known = new Set(entries.map((e) => e.name));
  const stored = entries.map((then): Comparison => {
    const now = live(joinPath(base, then.name), then.name);
    const since = then.unread ? 'unknown' : !now ? 'gone' : looksSame(then, now) ? 'same' : 'changed';
    return { name: then.name, since, then, now: now && storedForm(now), sameContent: undefined };
  });
  const fresh = names
    .filter((name) => !known.has(name))
    .flatMap((name): Comparison[] => {
      const now = live(joinPath(base, name), name);
      return now ? [{ name, since: 'new', then: undefined, now: storedForm(now), sameContent: undefined }] : [];
    });
  return [...stored, ...fresh];
}
