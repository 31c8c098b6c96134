import { setTimeout } from 'node:timers/promises';
import { BucketPoint } from '@lithodex/kinds';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { rounds } from '../support/by-command';
import { Harness, type Client } from '../support/harness';
import { ObjectStorage, objectSecret } from '../support/object-storage';

let h: Harness;
let admin: Client;
let storage: ObjectStorage;
let targetId: string;
let systemId: number;
let workloadId: number;
const bucket = 'tide-logs';
const keys = ['a', 'a/b', 'a/c', 'gate/north', 'gate/south', 'gate', 'é', '//x'];
/** What was there from an instant of the service on. */
const ledger: { readonly at: number; readonly content: ReadonlyMap<string, string> }[] = [];
/** Below 1. */
let state = 1;
const random = () => (state = (state * 48271) % 2147483647) / 2147483647;

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  storage = await ObjectStorage.start(`${h.folder}/objects`, ['brought-back']);
  storage.service.makeBucket(bucket, false, true);
  const address = { kind: 'bucket' as const, endpoint: storage.endpoint, accessKey: 'keeper', versions: true };
  ({ id: systemId } = await admin.call('addSystem', { body: { name: 'tides', address, secret: objectSecret } }));
  workloadId = (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === bucket)!.id;
}, 60_000);
afterAll(async () => {
  await storage.stop();
  await h.stop();
});

const newestAt = (key: string) => storage.service.shelf.bucket(bucket).keys.get(key)?.[0]?.at ?? 0;
/** Somebody writes and deletes all the time, until told to end. */
function writer(): { end: () => Promise<void> } {
  let goesOn = true;
  const content = new Map(ledger.at(-1)?.content);
  const done = (async () => {
    for (let n = ledger.length; goesOn; n++) {
      const key = keys[Math.floor(random() * keys.length)]!;
      if (content.has(key) && random() < 0.3) {
        await storage.remove(bucket, key);
        content.delete(key);
      } else {
        await storage.put(bucket, key, `${key} for the time no. ${n}`);
        content.set(key, `${key} for the time no. ${n}`);
      }
      ledger.push({ at: newestAt(key), content: new Map(content) });
      await setTimeout(random() * 30);
    }
  })();
  return {
    end: () => {
      goesOn = false;
      return done;
    },
  };
}
const take = async () => {
  const run = await admin.ended((await admin.call('protectOnce', { id: workloadId, body: { targetId } })).runId);
  expect(run.state).toBe('done');
};
const points = async () => (await admin.call('workload', { id: workloadId })).pointList;

describe('a bucket whose versions are taken', () => {
  it('comes back as it was at any second, while somebody writes all the time', async () => {
    const begun = Date.now();
    const busy = writer();
    for (let n = 0; n < 4; n++) {
      await setTimeout(1200);
      await take();
    }
    await busy.end();
    await take();
    const all = await points();
    expect(BucketPoint.parse(all.at(-1)!.facts).older!.versions).toBeGreaterThan(20);
    const last = all.at(-1)!.moment;
    for (let n = 0; n < rounds(6, 100); n++) {
      const at = Math.floor(begun + random() * (last - begun));
      const point = all.find((p) => p.moment >= at)!;
      const prefix = `${n}/`;
      const destination = { to: 'bucket' as const, systemId, bucket: 'brought-back', prefix, at };
      const body = { picks: [{ pointId: point.id, path: '' }], destination, reason: 'to see whether it is right' };
      const run = await admin.ended((await admin.call('startRestore', { body })).runId);
      expect(run.state).toBe('done');
      const there = new Map<string, string>();
      for (const [key, [version]] of storage.service.shelf.bucket('brought-back').keys) {
        if (!key.startsWith(prefix) || !version) continue;
        const { Body } = await storage.s3.getObject({ Bucket: 'brought-back', Key: key });
        there.set(key.slice(prefix.length), await Body!.transformToString());
      }
      const wanted = ledger.filter((l) => l.at <= at).at(-1)?.content ?? new Map<string, string>();
      expect([...there].sort(), `at ${at}, from the point of ${point.moment}`).toEqual([...wanted].sort());
    }
  }, 600_000);

  it('brings a deleted object and a single older version back, and names the nearer point', async () => {
    await storage.put(bucket, 'gate/west', 'the first');
    const at = newestAt('gate/west');
    await setTimeout(20);
    await storage.put(bucket, 'gate/west', 'the second');
    await setTimeout(20);
    await storage.remove(bucket, 'gate/west');
    await take();
    await take();
    const [near, far] = (await points()).slice(-2);
    const destination = { to: 'bucket' as const, systemId, bucket: 'brought-back', prefix: 'west/', at };
    const plan = await admin.call('planRestore', { body: { name: 'x', picks: [{ pointId: far!.id, path: '' }], destination } });
    expect(plan.checks.map((c) => c.code)).toContain('NEARER_POINT');
    const older = (await admin.call('tree', { id: near!.id, query: { path: '~versions/gate/west~' } })).rows;
    expect(older).toHaveLength(3);
    const first = older.find((r) => r.size === 'the first'.length)!;
    const body = { picks: [{ pointId: near!.id, path: first.path }], destination: { to: 'original' as const }, reason: 'it was right' };
    expect((await admin.ended((await admin.call('startRestore', { body })).runId)).state).toBe('done');
    const { Body } = await storage.s3.getObject({ Bucket: bucket, Key: 'gate/west' });
    expect(await Body!.transformToString()).toBe('the first');
    const folder = { picks: [{ pointId: near!.id, path: '~versions/gate' }], destination: { to: 'original' as const } };
    await expect(admin.call('planRestore', { body: { name: 'x', ...folder } })).rejects.toMatchObject({ code: 'INVALID' });
    const single = await admin.call('planRestore', { body: { name: 'x', picks: body.picks, destination: body.destination } });
    expect(single.items[0]!.goesTo).toBe('gate/west, where it was');
    const later = { ...destination, at: Date.now() + 60_000 };
    const refused = admin.call('planRestore', { body: { name: 'x', picks: [{ pointId: far!.id, path: '' }], destination: later } });
    await expect(refused).rejects.toMatchObject({ code: 'INVALID' });
  });
});
