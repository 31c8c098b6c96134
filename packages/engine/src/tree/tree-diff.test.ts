import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Store } from '../store/store';
import { DiskFolder } from '../targets/disk-folder';
import { byName, type TreeEntry } from './tree-entry';
import { diffTrees } from './tree-diff';
import { writeFolder } from './tree-writer';

/** A tree in the simplest form: names to content or to a subtree. */
type Shape = { [name: string]: string | Shape };

let folder: string;
let store: Store;
beforeAll(async () => {
  folder = fs.mkdtempSync(`${os.tmpdir()}/lithodex-diff-`);
  store = await Store.create(new DiskFolder(folder), randomBytes(32), new Date(0));
});
afterAll(() => {
  fs.rmSync(folder, { recursive: true, force: true });
});

const plain = (name: string, kind: TreeEntry['kind']): TreeEntry => ({
  name,
  kind,
  mode: 0o644,
  uid: 0,
  gid: 0,
  mtimeNs: 1n,
  ctimeNs: 1n,
  inode: 1,
  size: 0,
});

async function write(shape: Shape): Promise<TreeEntry> {
  const writer = store.writer();
  const build = (name: string, node: string | Shape): TreeEntry => {
    if (typeof node === 'string')
      return {
        ...plain(name, 'file'),
        size: node.length,
        content: { names: writer.put(Buffer.from(node || ' ')), lengths: [node.length || 1] },
      };
    const entries = Object.entries(node).map(([n, child]) => build(n, child));
    return { ...plain(name, 'folder'), folder: writeFolder((d) => writer.put(d), entries.sort(byName)) };
  };
  const top = build('', shape);
  await writer.finish();
  return top;
}

/** Files of a shape by path. */
function files(shape: Shape, at = ''): Map<string, string> {
  const all = new Map<string, string>();
  for (const [name, node] of Object.entries(shape)) {
    if (typeof node === 'string') all.set(at + name, node);
    else for (const [path, content] of files(node, `${at}${name}/`)) all.set(path, content);
  }
  return all;
}

const names = fc.stringMatching(/^[a-d]{1,2}$/);
const { tree } = fc.letrec<{ tree: Shape; node: string | Shape }>((tie) => ({
  node: fc.oneof({ depthSize: 'small', withCrossShrink: true }, fc.stringMatching(/^[xyz]{1,3}$/), tie('tree')),
  tree: fc.dictionary(names, tie('node'), { maxKeys: 5 }),
}));

describe('the difference of two trees', () => {
  it('turns the files of the first into those of the second, and says each change once', async () => {
    await fc.assert(
      fc.asyncProperty(tree, tree, async (a, b) => {
        const [older, newer] = [await write(a), await write(b)];
        const result = files(a);
        const wanted = files(b);
        const seen = new Set<string>();
        for await (const change of diffTrees(store.trees, older, newer)) {
          const path = change.folder === '' ? change.entry.name : `${change.folder}/${change.entry.name}`;
          const key = `${change.change} ${path}`;
          expect(seen.has(key)).toBe(false);
          seen.add(key);
          if (change.change === 'removed' && change.entry.kind === 'file') result.delete(path);
          if ((change.change === 'added' || change.change === 'changed') && change.entry.kind === 'file')
            result.set(path, wanted.get(path)!);
          if (change.change === 'changed' && change.entry.kind === 'folder') result.delete(path);
        }
        expect([...result].sort()).toEqual([...wanted].sort());
      }),
      { numRuns: 60 },
    );
  });

  it('is nothing between a tree and itself, and everything when there is no older one', async () => {
    await fc.assert(
      fc.asyncProperty(tree, async (shape) => {
        const top = await write(shape);
        const changes = [];
        for await (const change of diffTrees(store.trees, top, top)) changes.push(change);
        expect(changes).toEqual([]);
        let added = 0;
        for await (const change of diffTrees(store.trees, undefined, top)) {
          expect(change.change).toBe('added');
          added++;
        }
        expect(added).toBe(top.folder!.items);
      }),
      { numRuns: 30 },
    );
  });

  it('knows nothing of what could not be looked at', async () => {
    const older = await write({ open: { a: 'x' }, closed: { b: 'y', deep: { c: 'z' } } });
    const newer = await write({ open: { a: 'x' } });
    const entries = [...(await store.trees.folder(newer.folder!.node)), { ...plain('closed', 'folder'), unread: true }].sort(byName);
    const writer = store.writer();
    const top = { ...plain('', 'folder' as const), folder: writeFolder((d) => writer.put(d), entries) };
    await writer.finish();
    const changes: string[] = [];
    for await (const c of diffTrees(store.trees, older, top)) changes.push(`${c.change} ${c.folder}/${c.entry.name}`);
    expect(changes.sort()).toEqual(['changed /closed', 'unseen closed/b', 'unseen closed/deep', 'unseen closed/deep/c']);
  });
});
