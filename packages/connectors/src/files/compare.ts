import fs from 'node:fs';
import { baseName, parentPath } from '@lithodex/core';
import { closeFile, EngineError, sameEntry, systemCode, type TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from '../readable-tree';
import { contentMatches } from './content-check';
import { describeIn, describeOpen, namesIn, storedForm, type LiveEntry } from './folder-listing';
import type { HostLimits } from './host-limits';
import { LiveTree } from './live-tree';

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

/** Whether something is not where it was looked for: gone, or behind something that is no folder (any more). */
function isAbsent(error: unknown): boolean {
  const code = systemCode(error) ?? '';
  return ['ENOENT', 'ENOTDIR', 'ELOOP'].includes(code) || (error instanceof EngineError && error.code === 'LEADS_AWAY');
}

/** The tree of a source to compare with, which the caller closes; undefined when it is not there (any more). Throws what else keeps it from being opened. */
export function treeNow(root: string, readAs: string | null, limits: HostLimits): LiveTree | undefined {
  try {
    return LiveTree.open(root, readAs, limits);
  } catch (error) {
    if (isAbsent(error)) return undefined;
    throw error;
  }
}

function live(tree: LiveTree | undefined, path: string): LiveEntry | undefined {
  if (!tree) return undefined;
  try {
    return path === ''
      ? tree.inFolder('', (fd) => describeOpen(fd, ''))
      : tree.inFolder(parentPath(path), (fd) => describeIn(fd, baseName(path)));
  } catch (error) {
    if (isAbsent(error)) return undefined;
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

/** Compares one item, reading the live content where size or time leave a doubt. Throws the system's error where the account may not look. */
export async function compareItem(tree: LiveTree | undefined, path: string, then: TreeEntry, stored: ReadableTree): Promise<Comparison> {
  const now = live(tree, path);
  if (!tree || !now) return { name: then.name, since: 'gone', then, now: undefined, sameContent: undefined };
  let sameContent: boolean | undefined;
  if (then.kind === 'file' && now.kind === 'file' && !then.unread) {
    const fd = tree.openFile(path, fs.constants.O_RDONLY | fs.constants.O_NONBLOCK);
    try {
      sameContent = fs.fstatSync(fd).isFile() && (await contentMatches(fd, then, stored));
    } finally {
      closeFile(fd);
    }
  }
  const same = looksSame(then, now) && sameContent !== false;
  return { name: then.name, since: then.unread ? 'unknown' : same ? 'same' : 'changed', then, now: storedForm(now), sameContent };
}

/** Compares the entries of one folder by their facts; what is new there comes along. */
export function compareFolder(tree: LiveTree | undefined, path: string, entries: readonly TreeEntry[]): Comparison[] {
  const there = new Map<string, LiveEntry | undefined>();
  try {
    tree?.inFolder(path, (fd) => {
      const own = tree.ownNames(path);
      for (const name of new Set([...namesIn(fd), ...entries.map((e) => e.name)]))
        if (!own?.has(name)) there.set(name, describeIn(fd, name));
    });
  } catch (error) {
    if (!isAbsent(error)) throw error;
  }
  const known = new Set(entries.map((e) => e.name));
  const stored = entries.map((then): Comparison => {
    const now = there.get(then.name);
    const since = then.unread ? 'unknown' : !now ? 'gone' : looksSame(then, now) ? 'same' : 'changed';
    return { name: then.name, since, then, now: now && storedForm(now), sameContent: undefined };
  });
  const fresh = [...there].flatMap(([name, now]): Comparison[] =>
    now && !known.has(name) ? [{ name, since: 'new', then: undefined, now: storedForm(now), sameContent: undefined }] : [],
  );
  return [...stored, ...fresh];
}
