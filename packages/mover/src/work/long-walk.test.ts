import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { closePools, LiveTree, HostLimits, Scout, scoutThread, type Warned } from '@lithodex/connectors';
import { closeFile, DiskFolder, FileFacts, Store, statIn, topEntry, type TreeEntry } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { folderTree, pointRequest, quietly } from '../../../../tests/support/store-kit';
import { takePoint } from './take-point';

let base: string;
let source: string;
let store: Store;

beforeEach(async () => {
  base = temporaryFolder('walk');
  source = `${base}/source`;
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  for (let i = 0; i < 60; i++) {
    const folder = `${source}/area-${i % 7}/deep-${i % 3}/folder-${i}`;
    fs.mkdirSync(folder, { recursive: true });
    for (let k = 0; k < 60; k++) fs.writeFileSync(`${folder}/file-${k}`, `content ${i} ${k}`);
    fs.writeFileSync(Buffer.from(`${folder}/odd\n\xff ${i}`, 'latin1'), 'odd');
    fs.symlinkSync('file-1', `${folder}/link`);
  }
  fs.mkdirSync(`${source}/empty`);
});
afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

async function take(taskId: string, previous: string | null, more: object = {}) {
  const warnings: Warned[] = [];
  const { root } = await takePoint(store, pointRequest(source, taskId, previous, more), { ...quietly, warn: (w) => warnings.push(w) });
  return { root, warnings };
}

/** Everything below, but for what no content is. */
async function entriesOf(top: TreeEntry, below = ''): Promise<string[]> {
  const { folder: ref } = top;
  if (!ref) return [];
  const all: string[] = [];
  for (const e of await store.trees.folder(ref.node)) {
    const path = `${below}/${e.name}`;
    all.push(`${path} ${e.kind} ${e.size} ${e.mtimeNs} ${e.content && 'names' in e.content ? e.content.names.toString('hex') : ''}`);
    all.push(...(await entriesOf(e, path)));
  }
  return all;
}

describe('a long walk', () => {
  it('finds the same as one that looks at everything itself, whatever changed', async () => {
    await take('first', null);
    fs.rmSync(`${source}/area-1`, { recursive: true });
    fs.writeFileSync(`${source}/area-2/deep-0/new`, 'new');
    for (const i of [3, 10, 58]) fs.writeFileSync(`${source}/area-${i % 7}/deep-${i % 3}/folder-${i}/file-7`, 'changed');
    fs.renameSync(`${source}/area-3/deep-0/folder-3/file-1`, `${source}/area-3/deep-0/folder-3/file-99`);
    const second = await take('second', 'first');
    expect(second.warnings).toEqual([]);
    const fresh = await take('fresh', null, { seriesId: 's2' });
    expect(await entriesOf(topEntry(second.root))).toEqual(await entriesOf(topEntry(fresh.root)));
    expect(second.root.totals.files).toBe(fresh.root.totals.files);
    const third = await take('third', 'second');
    expect(topEntry(third.root).folder!.node).toEqual(topEntry(second.root).folder!.node);
  });

  it('leaves out what the patterns name, wherever it is', async () => {
    await take('first', null);
    const { root } = await take('second', 'first', { exclude: ['area-4/**', 'file-1*'] });
    const names = await entriesOf(topEntry(root));
    expect(names.filter((n) => n.startsWith('/area-4/') || n.includes('/file-1'))).toEqual([]);
    expect(names.length).toBeGreaterThan(2000);
  });

  it('says what could not be read', async () => {
    await take('first', null);
    fs.chmodSync(`${source}/area-5/deep-2/folder-5`, 0);
    fs.chmodSync(source, 0o755);
    const from = folderTree(source, { readAs: 'nobody' });
    fs.chmodSync(base, 0o755);
    const { warnings } = await take('second', 'first', { from });
    expect(warnings.map((w) => [w.code, w.path])).toEqual([['UNREADABLE', 'area-5/deep-2/folder-5']]);
  });
});

describe('a scout', () => {
  const own = (tree: LiveTree, path: string) => {
    const { fd, names } = tree.list(path);
    const facts = new FileFacts();
    try {
      return names.map((name) => {
        statIn(fd, name, facts);
        return `${name} ${facts.inode} ${facts.size} ${facts.mtimeNanos} ${facts.mode}`;
      });
    } finally {
      closeFile(fd);
    }
  };
  const scouted = (found: NonNullable<ReturnType<Scout['take']>>) => {
    const facts = new FileFacts();
    return found.names.map((name, i) => {
      expect(found.at(i, facts)).toBeUndefined();
      return `${name} ${facts.inode} ${facts.size} ${facts.mtimeNanos} ${facts.mode}`;
    });
  };

  it('lists folders as they are, and leaves to the walk what it can not', async () => {
    const tree = LiveTree.open(source, null, HostLimits.none);
    const paths = Array.from({ length: 60 }, (_, i) => `area-${i % 7}/deep-${i % 3}/folder-${i}`);
    paths.splice(5, 0, 'not-there', 'area-1/deep-1/folder-1/link', 'empty');
    let found = 0;
    // at once, then with the time that it takes to be ahead
    for (let pause = 0; pause === 0 || (found === 0 && pause < 5000); pause = pause * 2 + 50) {
      const scout = new Scout(tree, scoutThread);
      scout.begin();
      scout.foresee(paths);
      await new Promise((resume) => setTimeout(resume, pause));
      for (const path of paths) {
        const ahead = scout.take(path);
        if (path === 'not-there' || path.endsWith('/link')) expect(ahead).toBeUndefined();
        else if (ahead) {
          found++;
          expect(scouted(ahead)).toEqual(own(tree, path));
        }
      }
      scout.passed();
      scout.end();
    }
    expect(found).toBeGreaterThan(0);
    const first = new Scout(tree, scoutThread);
    first.begin();
    first.foresee(paths);
    // one at a time has the thread: the other walks by itself
    const other = new Scout(tree, scoutThread);
    other.begin();
    other.foresee(paths);
    expect(paths.map((path) => other.take(path)).filter(Boolean)).toEqual([]);
    other.end();
    first.end();
    tree.close();
  });
});
