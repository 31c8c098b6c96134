import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let quay: string;
let rock: string;
const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const strike = (body: BodyInput<'strikeOut'>) => admin.call('strikeOut', { body });
const sourceOf = async (name: string) => (await admin.call('strikePlaces')).systems.find((s) => s.name === name)!.id;
const fates = async (body: BodyInput<'strikeOut'>) =>
  Object.fromEntries((await strike(body)).rows.map((r) => [r.workload.name, [r.fate, r.pointsLeft, r.pointsLost, r.from?.name ?? null]]));

/** Brings the newest point of a workload that can be read back to a folder; '' or why it does not come back. */
async function comesBack(name: string): Promise<string> {
  const { pointList } = await admin.call('workload', { id: await idOf(name) });
  const { id } = pointList.reduce((a, b) => (b.moment > a.moment ? b : a));
  const body = {
    picks: [{ pointId: id, path: '' }],
    destination: { to: 'folder' as const, folder: `${h.folder}/back-${name}`, keepPath: false },
    reason: 'the harbour office burned down',
  };
  const run = await admin.ended((await admin.call('startRestore', { body })).runId);
  if (run.state === 'failed') return run.cause?.code ?? 'failed';
  const back = fs.readdirSync(`${h.folder}/back-${name}`, { recursive: true, encoding: 'utf8' }).filter((f) => f.endsWith('.txt'));
  return back.length === 3 ? '' : `${back.length} files came back`;
}

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0 });
  admin = await h.withToken('administrator');
  await h.moverReady();
  const target = async (name: string, location: string) =>
    (await admin.call('addTarget', { body: { name, location, place: { kind: 'folder', folder: `${h.folder}/${name}` } } })).id;
  quay = await target('quay', 'Harbour office');
  rock = await target('rock', 'Lighthouse station');
  for (const name of ['copied', 'alone', 'afar']) {
    const folder = `${h.folder}/source-${name}`;
    fs.mkdirSync(folder);
    for (let i = 0; i < 3; i++) fs.writeFileSync(`${folder}/${i}.txt`, `${name} ${i}\n`.repeat(200));
    const location = name === 'afar' ? 'Lighthouse station' : 'Harbour office';
    const { workloadId } = await admin.call('addSource', { body: { name, folder, location } });
    const body = policyFor([workloadId], name === 'afar' ? rock : quay, { name });
    const rule = body.rules[0]!;
    const copies = name === 'copied' ? [{ targetId: rock, keep: rule.keep }] : [];
    const rules = [{ ...rule, copies }];
    const { id } = await admin.call('addPolicy', { body: { ...body, rules, priority: name === 'copied' ? 'last' : 'usual' } });
    for (let i = 0; i < 2; i++) {
      fs.appendFileSync(`${folder}/0.txt`, 'more\n');
      await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
    }
  }
  await h.idle(admin);
}, 60_000);
afterAll(() => h.stop());

describe('strike it out', () => {
  it('knows what can be crossed out, and says what nobody loses', async () => {
    const places = await admin.call('strikePlaces');
    expect(places.sites).toEqual([
      { name: 'Harbour office', workloads: 2, targets: 1 },
      { name: 'Lighthouse station', workloads: 1, targets: 1 },
    ]);
    expect(places.targets).toMatchObject([{ envelopeAt: null }, { envelopeAt: null }]);
    expect(await strike({})).toMatchObject({ rows: [], untouched: 3, backMs: null });
    expect(await fates({ targets: [rock] })).toEqual({ afar: ['unprotected', 0, 2, null] });
  });

  it('tells targets, keys, systems and sites apart', async () => {
    expect(await fates({ targets: [quay] })).toEqual({ alone: ['unprotected', 0, 2, null] });
    expect(await fates({ targets: [quay, rock] })).toEqual({
      alone: ['unprotected', 0, 2, null],
      copied: ['unprotected', 0, 2, null],
      afar: ['unprotected', 0, 2, null],
    });
    expect(await fates({ keys: [quay] })).toEqual({ alone: ['unprotected', 0, 2, null] });
    expect(await fates({ systems: [await sourceOf('alone')] })).toEqual({ alone: ['comesBack', 2, 0, 'quay'] });
    const sites = { sites: ['Harbour office'] };
    expect(await fates(sites)).toEqual({ alone: ['lost', 0, 2, null], copied: ['comesBack', 2, 0, 'rock'] });
    // with what opens the target in somebody's hand, its key may be lost
    await admin.call('envelope', { id: quay, body: { passphrase: 'a lantern at the end of the quay' } });
    const { rows } = await strike({ keys: [quay], systems: [await sourceOf('alone')] });
    expect(rows).toMatchObject([{ fate: 'comesBack', byEnvelope: true }]);
  });

  it('is a matter where points could stand at another site, and do not', async () => {
    const { matters } = await admin.call('watch', { query: {} });
    const [one] = matters.filter((m) => m.id === 'site-Harbour office');
    expect(one).toMatchObject({
      title: '1 workload would be gone for good with Harbour office',
      text: expect.stringContaining('alone') as string,
    });
    expect(matters.some((m) => m.id === 'site-Lighthouse station')).toBe(true);
  });

  it('takes the times that drills took', async () => {
    const copied = await idOf('copied');
    await admin.ended((await admin.call('startDrill', { body: { workloads: [copied] } })).runId);
    const { rows, backMs } = await strike({ sites: ['Harbour office'] });
    const row = rows.find((r) => r.workload.name === 'copied')!;
    const { usableMs } = (await admin.call('listDrilled', { query: { workload: copied } })).rows[0]!;
    expect(row).toMatchObject({ measured: true, takesMs: usableMs, backMs: usableMs });
    expect(backMs).toBe(usableMs);
  });

  it('agrees with what is really lost and comes back', async () => {
    const said = await strike({ sites: ['Harbour office'] });
    for (const gone of ['quay', 'source-copied', 'source-alone']) fs.rmSync(`${h.folder}/${gone}`, { recursive: true });
    for (const { workload, fate } of said.rows) {
      const why = await comesBack(workload.name);
      expect([workload.name, why === '']).toEqual([workload.name, fate === 'comesBack']);
    }
    expect(await comesBack('afar')).toBe('');
  });

  it('is for those who may look', async () => {
    for (const role of ['operator', 'auditor'] as const)
      expect(await (await h.as(role)).call('strikeOut', { body: {} })).toMatchObject({ untouched: 3 });
    await expect((await h.as('clerk')).call('strikeOut', { body: {} })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  });
});
