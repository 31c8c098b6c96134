import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { DiskFolder } from '../targets/disk-folder';
import { verifyAndMend } from '../verify/mend';
import { keepSettings, keptSettings } from './kept-settings';
import { Store } from './store';

let folder: string;
let store: Store;
const key = randomBytes(32);
const names = () => fs.readdirSync(`${folder}/settings`).sort();
const mend = { copyTask: 't', now: () => 0, expected: [], walk: true, stopped: () => false };

beforeEach(async () => {
  folder = temporaryFolder('settings');
  store = await Store.create(new DiskFolder(folder), key, new Date(0));
});
afterEach(() => {
  fs.rmSync(folder, { recursive: true, force: true });
});

describe('settings kept on a store', () => {
  it('are those written last, whatever their text; a few older ones stay', async () => {
    expect(await keptSettings(store)).toBeUndefined();
    let at = 0;
    await fc.assert(
      fc.asyncProperty(fc.string({ unit: 'binary', maxLength: 300 }), async (text) => {
        await keepSettings(store, { at: ++at, text });
        expect(await keptSettings(await Store.open(new DiskFolder(folder), key))).toEqual({ at, text });
        expect(names().length).toBeLessThanOrEqual(10);
      }),
      { numRuns: rounds(10, 30) },
    );
  });

  it('survive damage in one place, and in both fall back to those before', async () => {
    for (const [i, text] of ['first', 'second'].entries()) await keepSettings(store, { at: i, text });
    const [older, olderCopy, newer, newerCopy] = names();
    const spoil = (name = '') => {
      const file = fs.readFileSync(`${folder}/settings/${name}`);
      file[file.length - 5]! ^= 1;
      fs.writeFileSync(`${folder}/settings/${name}`, file);
    };
    spoil(newer);
    expect((await keptSettings(store))?.text).toBe('second');
    fs.rmSync(`${folder}/settings/${olderCopy}`);
    expect((await verifyAndMend(store, [], mend)).damages.map((d) => d.object)).toEqual(['settings/', 'settings/']);
    expect((await verifyAndMend(store, [], mend)).damages).toEqual([]);
    spoil(newer);
    spoil(newerCopy);
    expect(await keptSettings(store)).toEqual({ at: 0, text: 'first' });
    spoil(older);
    spoil(olderCopy);
    await expect(keptSettings(store)).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
    expect((await verifyAndMend(store, [], mend)).damages).toHaveLength(2);
    expect(names()).toEqual([]);
    expect(await keptSettings(store)).toBeUndefined();
  });

  it('are written by the owner of the store only', async () => {
    store.installation = 'a'.repeat(32);
    await keepSettings(store, { at: 1, text: 'ours' });
    const other = await Store.open(new DiskFolder(folder), key);
    other.installation = 'b'.repeat(32);
    await expect(keepSettings(other, { at: 2, text: 'theirs' })).rejects.toMatchObject({ code: 'NOT_OWNER' });
    expect((await keptSettings(other))?.text).toBe('ours');
  });

  it('are not called damaged while they are written or taken away', async () => {
    await keepSettings(store, { at: 1, text: 'one' });
    const [record, twin] = names() as [string, string];
    const late = fs.readFileSync(`${folder}/settings/${twin}`);
    fs.rmSync(`${folder}/settings/${twin}`);
    const looking = verifyAndMend(store, [], mend);
    setTimeout(() => {
      fs.writeFileSync(`${folder}/settings/${twin}`, late);
    }, 300);
    expect((await looking).damages).toEqual([]);
    fs.rmSync(`${folder}/settings/${record}`);
    expect((await verifyAndMend(store, [], mend)).damages.map((d) => d.object)).toEqual(['settings/']);
    expect(names()).toEqual([record, twin]);
  });
});
