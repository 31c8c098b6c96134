import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { openTop } from '../native/beneath';
import { closeFile } from '../native/open-files';
import { CrunchPool } from '../pipeline/crunch-pool';
import { Store } from '../store/store';
import { DiskFolder } from '../targets/disk-folder';

let base: string;
let store: Store;

beforeEach(async () => {
  base = temporaryFolder('threads');
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});
afterEach(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

const openFiles = () => fs.readdirSync('/proc/self/fd').length;
function started(): CrunchPool {
  const pool = new CrunchPool(store.keys, store.target.place, 2);
  pool.begin(
    () => store.claims(1000),
    () => undefined,
  );
  return pool;
}

describe('threads', () => {
  it('leave in the middle of a file and leave nothing open', async () => {
    const piece = randomBytes(8 << 20);
    const file = fs.openSync(`${base}/large`, 'w');
    for (let i = 0; i < 40; i++) fs.writeSync(file, piece);
    fs.closeSync(file);
    const before = openFiles();
    const pool = started();
    let done = 0;
    const top = openTop(base);
    const jobs = { top, folders: [{ path: '', names: ['large', 'large', 'large'] }] };
    for (let i = 0; i < 4; i++) await pool.submit(jobs, 1, () => done++);
    await new Promise((resume) => setTimeout(resume, 300));
    await pool.close();
    closeFile(top);
    expect(done).toBeLessThan(12);
    expect(openFiles()).toBe(before);
    await expect(pool.idle()).rejects.toMatchObject({ code: 'STOPPED' });
  });

  it('leave while they are still starting, again and again', async () => {
    const before = openFiles();
    for (let i = 0; i < 20; i += rounds(3, 1)) {
      const pool = started();
      await pool.submit({ top: -1, folders: [] }, 1, () => undefined);
      await new Promise((resume) => setTimeout(resume, i * 5));
      await pool.close();
    }
    expect(openFiles()).toBe(before);
  });
});
