import type { AnswerTo, PointRef } from '@lithodex/contract';
import { joinPath, mailStoreFolder, mailStoreOn } from '@lithodex/core';
import { fileContent, findItem, findWithParents, mailStoreQuestions, OpenedTrees, type FoundItem } from '@lithodex/connectors';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { openPoint } from './open-point';
import type { Stores } from './stores';

/** Trees that people walk, kept between their questions. */
export const walked = new OpenedTrees(3);

/** What is counted of an item at most, and for how long: who asks waits. */
const mostCounted = 20_000;
const countingMs = 3000;

/** One folder inside an item of a point. Throws PATH_MISSING and what its disk fails with. */
export async function openedFolder(
  stores: Stores,
  point: PointRef,
  { path, after, limit }: { readonly path: string; readonly after: string; readonly limit: number },
): Promise<AnswerTo<'openedFolder'>> {
  const opened = await walked.open(await openPoint(stores, point), path);
  if (!opened) throw new EngineError('PATH_MISSING', path);
  const { tree, rest } = opened;
  const { entry } = await findWithParents(tree.trees, tree.top, rest);
  const rows = [...(await tree.rows(entry)), ...(await openedStore(tree, entry, path))].filter(({ item }) => item.name > after);
  return {
    rows: rows.slice(0, limit).map(({ item, about }) => ({
      name: item.name,
      kind: item.kind,
      size: item.size,
      mtimeNs: String(item.mtimeNs),
      mode: item.mode,
      uid: item.uid,
      gid: item.gid,
      unread: item.unread !== undefined,
      about: [about, item.unread].filter(Boolean).join(': '),
    })),
    more: rows.length > limit,
  };
}

const storeRow = { name: mailStoreFolder, kind: 'folder', size: 0, mtimeNs: 0n, mode: 0o700, uid: 0, gid: 0, unread: undefined } as const;

/** A mail store can be walked as mailboxes, in a folder of its own beside its files. */
async function openedStore(tree: FoundItem['tree'], entry: TreeEntry, path: string): Promise<{ item: typeof storeRow; about: string }[]> {
  if (mailStoreOn(path)) return [];
  const { folderThere, layoutOf } = await mailStoreQuestions();
  const layout = await layoutOf(await folderThere(tree, entry));
  return layout ? [{ item: storeRow, about: `mail store, ${layout}` }] : [];
}

/** Mail stores in what is inside an item of a point, below a folder. Throws PATH_MISSING. */
export async function mailStores(stores: Stores, point: PointRef, path: string): Promise<AnswerTo<'mailStores'>> {
  const opened = await walked.open(await openPoint(stores, point), path);
  if (!opened) throw new EngineError('PATH_MISSING', path);
  const { entry } = await findWithParents(opened.tree.trees, opened.tree.top, opened.rest);
  return (await mailStoreQuestions()).mailStoresBelow(opened.tree, entry);
}

/** The front of a file of a point, stored or inside an item, at most `most` bytes. Throws PATH_MISSING. */
export async function frontOf(stores: Stores, point: PointRef, path: string, most: number): Promise<AnswerTo<'front'>> {
  const { tree, entry } = await findItem(await openPoint(stores, point), path, walked);
  if (entry.kind !== 'file' || entry.unread) throw new EngineError('PATH_MISSING', 'no file that can be read');
  const parts: Buffer[] = [];
  let bytes = 0;
  for await (const part of fileContent(tree, entry)) {
    parts.push(part);
    bytes += part.length;
    if (bytes >= most) break;
  }
  return { kind: entry.kind, size: entry.size, data: Buffer.concat(parts).subarray(0, most).toString('base64') };
}

/** What items inside an item of a point are; null for what is not there. */
export async function openedItems(
  stores: Stores,
  point: PointRef,
  paths: readonly string[],
  most: number,
): Promise<AnswerTo<'openedItems'>> {
  const open = await openPoint(stores, point);
  const counting = new Counting(most);
  const answers: AnswerTo<'openedItems'> = [];
  for (const path of paths) {
    const opened = await walked.open(open, path);
    const found = opened && (await orNothing(findWithParents(opened.tree.trees, opened.tree.top, opened.rest)));
    answers.push(found ? await counting.of(opened.tree, found.entry) : null);
  }
  return answers;
}

async function orNothing<T>(looked: Promise<T>): Promise<T | undefined> {
  try {
    return await looked;
  } catch (error) {
    if (error instanceof EngineError && error.code === 'PATH_MISSING') return undefined;
    throw error;
  }
}

/** Counts what is below items, all of them together for so long only. */
class Counting {
  private readonly end = performance.now() + countingMs;
  private left = mostCounted;

  constructor(private named: number) {}

  async of(tree: FoundItem['tree'], top: TreeEntry): Promise<NonNullable<AnswerTo<'openedItems'>[number]>> {
    const sum = { kind: top.kind, size: 0, items: 0, whole: true, files: [] as { path: string; mtimeNs: string }[] };
    const waiting: { entry: TreeEntry; path: string }[] = [{ entry: top, path: '' }];
    for (let next = waiting.pop(); next; next = waiting.pop()) {
      const { entry, path } = next;
      sum.items++;
      sum.size += entry.size;
      if (entry.kind !== 'folder' && this.named > 0) {
        this.named--;
        sum.files.push({ path, mtimeNs: String(entry.mtimeNs) });
      }
      if (--this.left <= 0 || performance.now() > this.end) return { ...sum, whole: false };
      if (!entry.folder) continue;
      for await (const piece of tree.trees.pieces(entry.folder.node))
        for (const child of piece) waiting.push({ entry: child, path: joinPath(path, child.name) });
    }
    return sum;
  }
}
