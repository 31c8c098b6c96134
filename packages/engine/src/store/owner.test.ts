import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { prune } from '../prune/prune';
import { DiskFolder } from '../targets/disk-folder';
import { verifyAndMend } from '../verify/mend';
import { mendOwner, ownerOf, takeOwnership } from './owner';
import { Store } from './store';

let folder: string;
const key = randomBytes(32);
const [ours, theirs] = ['a'.repeat(32), 'b'.repeat(32)];

beforeEach(async () => {
  folder = temporaryFolder('owner');
  await Store.create(new DiskFolder(folder), key, new Date(0));
});
afterEach(() => {
  fs.rmSync(folder, { recursive: true, force: true });
});
async function openAs(installation: string): Promise<Store> {
  const store = await Store.open(new DiskFolder(folder), key);
  store.installation = installation;
  return store;
}
const refused = { code: 'NOT_OWNER' };

describe('the owner of a store', () => {
  it('is the first that writes, until another takes it over; then the first is refused whatever would change something', async () => {
    const first = await openAs(ours);
    expect(await ownerOf(first.target, first.keys)).toBeUndefined();
    await first.assertOwned();
    await first.assertOwned();
    expect(await ownerOf(first.target, first.keys)).toMatchObject({ epoch: 1, installation: ours });
    await expect((await openAs(theirs)).assertOwned()).rejects.toMatchObject(refused);

    await takeOwnership(first.target, first.keys, theirs, 5000);
    expect(await ownerOf(first.target, first.keys)).toEqual({ epoch: 2, installation: theirs, since: 5000 });
    const options = { alive: async () => new Set<string>(), stopped: () => false };
    const mend = { copyTask: 't', now: () => 0, expected: [], walk: true, stopped: () => false };
    await expect(first.assertOwned()).rejects.toMatchObject(refused);
    await expect(first.removeRoot('s', 't')).rejects.toMatchObject(refused);
    await expect(prune(first, { ...options, trial: false })).rejects.toMatchObject(refused);
    await expect(verifyAndMend(first, [], mend)).rejects.toMatchObject(refused);
    expect((await prune(first, { ...options, trial: true })).points).toBe(0);
    const second = await openAs(theirs);
    await second.removeRoot('s', 't');
    expect((await verifyAndMend(second, [], mend)).damages).toEqual([]);
  });

  it('is one of many that ask at once', async () => {
    const stores = await Promise.all([ours, theirs, ours, theirs].map(openAs));
    const outcomes = await Promise.allSettled(stores.map((s) => s.assertOwned()));
    const { installation } = (await ownerOf(stores[0]!.target, stores[0]!.keys))!;
    for (const s of stores)
      if (s.installation === installation) await s.assertOwned();
      else await expect(s.assertOwned()).rejects.toMatchObject(refused);
    expect(outcomes.some((o) => o.status === 'fulfilled')).toBe(true);
  });

  it('is known as long as its record or the copy can be read, and each is made again from the other', async () => {
    const store = await openAs(ours);
    await store.assertOwned();
    const files = [`${folder}/owner/00000001`, `${folder}/owner/00000001.copy`];
    for (const file of files)
      for (const damage of [() => fs.writeFileSync(file, 'rubbish'), () => fs.rmSync(file), () => fs.truncateSync(file, 20)]) {
        damage();
        await expect((await openAs(theirs)).assertOwned()).rejects.toMatchObject(refused);
        expect(await mendOwner(store.target, store.keys)).toBe(1);
        expect(await mendOwner(store.target, store.keys)).toBe(0);
      }
    for (const file of files) fs.writeFileSync(file, 'rubbish');
    await expect((await openAs(ours)).assertOwned()).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
    await takeOwnership(store.target, store.keys, ours, 0);
    await (await openAs(ours)).assertOwned();
  });
});
