import { execFile } from 'node:child_process';
import fs from 'node:fs';
import { promisify } from 'node:util';
import type { BodyInput } from '@lithodex/contract';
import { LibraryService } from '@lithodex/standins';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client, type PolicyChange } from '../support/harness';

let h: Harness;
let admin: Client;
let service: LibraryService;
let endpoint: string;
let vault: string;
let source: string;
let workloadId: number;
let targetId: string;
let policyId: number;
const clock = { at: Date.parse('2026-10-01T20:00:00Z'), now: () => clock.at };
const day = 86_400_000;
const token = 'the-token-of-the-library';
const MB = 1_000_000;
const passphrase = 'four horses and a lantern';

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  service = new LibraryService({ folder: `${h.folder}/library`, token, drives: 2, slots: 6 });
  endpoint = await service.start();
  ({ source, workloadId, targetId } = await h.connect(admin));
});
afterAll(async () => {
  await service.stop();
  await h.stop();
});
beforeEach(() => {
  clock.at += day;
});

const place = (more: object = {}) => ({
  kind: 'cartridges' as const,
  endpoint,
  token,
  barcodes: 'KH',
  folder: `${h.folder}/vault`,
  ...more,
});
const body = (more: PolicyChange = {}) =>
  policyFor([workloadId], targetId, {
    keep: { by: 'points', points: 5 },
    copies: [{ targetId: vault, rhythm: 'every', keep: { by: 'days', days: 300 } }],
    ...more,
  });
const cartridges = async () => (await admin.call('cartridges', { id: vault })).rows;
const points = async () => (await admin.call('workload', { id: workloadId })).pointList;

async function protect(change: string): Promise<void> {
  fs.writeFileSync(`${source}/large-${change}`, Buffer.from(Array.from({ length: 2 * MB }, () => Math.floor(Math.random() * 256))));
  await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  await h.round();
}

const sheet = (pointId: string): BodyInput<'startRestore'> => ({
  picks: [{ pointId, path: '' }],
  destination: { to: 'folder', folder: `${h.folder}/back` },
  reason: 'prove it',
  readFrom: vault,
});
async function restore(pointId: string) {
  fs.rmSync(`${h.folder}/back`, { recursive: true, force: true });
  return admin.ended((await admin.call('startRestore', { body: sheet(pointId) })).runId);
}
const same = () => {
  for (const name of fs.readdirSync(source))
    expect(fs.readFileSync(`${h.folder}/back/${name}`).equals(fs.readFileSync(`${source}/${name}`))).toBe(true);
};
const check = async (pointId: string) =>
  (await admin.call('planRestore', { body: sheet(pointId) })).checks.find((c) => c.code.startsWith('CARTRIDGES'));

describe('cartridges', () => {
  it('are tested before they become a target, which takes copies only and locks nothing', async () => {
    const test = async (more: object) => admin.call('testTarget', { body: { name: 'vault', place: place(more) } });
    expect(await test({})).toMatchObject({ ok: false, message: 'This is missing: cartridges to write on.' });
    expect(fs.existsSync(`${h.folder}/vault`)).toBe(false);
    expect(await test({ token: 'wrong' })).toMatchObject({ ok: false });
    await expect(test({ barcodes: 'kh/..' })).rejects.toThrow('400');
    for (let n = 41; n <= 44; n++) service.library.addNew(`KH00${n}`, 5 * MB);
    expect(await test({})).toMatchObject({ ok: true, holdsStore: false, free: 20 * MB });
    vault = (await admin.call('addTarget', { body: { name: 'vault', place: place() } })).id;
    await expect(admin.call('addTarget', { body: { name: 'again', place: place({ folder: '/elsewhere' }) } })).rejects.toThrow(
      'NAME_TAKEN',
    );
    expect(JSON.stringify(await admin.call('listTargets'))).not.toContain(token);
    await expect(admin.call('addPolicy', { body: body({ targetId: vault, copies: [] }) })).rejects.toThrow('which take copies');
    const locked = [{ targetId: vault, rhythm: 'every' as const, keep: { by: 'hand' as const }, lockDays: 5 }];
    await expect(admin.call('addPolicy', { body: body({ copies: locked }) })).rejects.toThrow('nothing can be locked there');
    policyId = (await admin.call('addPolicy', { body: body() })).id;
  });

  it('take copies one behind the other, each where the next has room, and say where they are', async () => {
    for (const change of ['a', 'b', 'c']) await protect(change);
    expect((await points()).map((p) => p.copies.map((c) => c.target).join(' and '))).toEqual(Array(3).fill('quay-disk and vault'));
    const rows = await cartridges();
    expect(rows.map((c) => [c.barcode, c.number, c.here])).toEqual([
      ['KH0041', 1, true],
      ['KH0042', 2, true],
      ['KH0043', null, true],
      ['KH0044', null, true],
    ]);
    expect(rows[0]!.used).toBeGreaterThan(4 * MB);
    const spread = (await admin.call('workload', { id: workloadId })).spread!;
    expect(spread).toMatchObject({ copies: 3, media: 2 });
  });

  it('bring a point back with the disk of its target gone, and name what to load when one is on the shelf', async () => {
    const [first, , last] = await points();
    expect(await check(last!.id)).toMatchObject({ level: 'fine', text: 'Read from KH0041 and KH0042, in the library.' });
    service.library.takeOut('KH0041');
    expect((await cartridges())[0]).toMatchObject({ where: 'on the shelf', here: false });
    expect(await check(last!.id)).toMatchObject({
      level: 'fine',
      text: 'KH0041 is on the shelf; what is on it is read from another copy.',
    });
    const fromOther = await restore(last!.id);
    expect(fromOther.state).toBe('done');
    expect((await admin.call('runLog', { id: fromOther.id, query: { q: 'was read from' } })).rows).toHaveLength(1);
    same();

    fs.renameSync(`${h.folder}/store`, `${h.folder}/store.lost`);
    const broken = await restore(last!.id);
    expect(broken.state).toBe('partsMissing');
    const log = (await admin.call('runLog', { id: broken.id, query: { q: 'KH0041' } })).rows;
    expect(log.length).toBeGreaterThan(0);
    service.library.bringIn('KH0041');
    await restore(last!.id);
    same();
    expect((await restore(first!.id)).counts.failed).toBe(0);
    fs.renameSync(`${h.folder}/store.lost`, `${h.folder}/store`);
  });

  it('are read again by verification, which passes over what is on the shelf and heals what it can', async () => {
    service.library.takeOut('KH0042');
    const run = await admin.ended((await admin.call('verifyTarget', { id: vault })).runId);
    const [line] = (await admin.call('runLog', { id: run.id, query: { q: 'was not, as nobody' } })).rows;
    expect(line!.message).toContain('what is on KH0042 was not');
    expect(run.state).toBe('done');
    service.library.bringIn('KH0042');
  });

  it('are opened with the envelope alone, the server and the folder of the set gone', async () => {
    const { content } = await admin.call('envelope', { id: vault, body: { passphrase } });
    fs.writeFileSync(`${h.folder}/vault.json`, content);
    const env = { ...process.env, LITHODEX_PASSPHRASE: passphrase, LITHODEX_LIBRARY_TOKEN: token };
    const args = ['dist/node/extract.js', '--store', `cartridges:${endpoint}/KH`, '--envelope', `${h.folder}/vault.json`];
    const extract = (...more: string[]) => promisify(execFile)(process.execPath, [...args, ...more], { env });
    const [, , last] = await points();
    expect((await extract('--list')).stdout).toContain(last!.id);
    fs.rmSync(`${h.folder}/back`, { recursive: true, force: true });
    await extract('--point', last!.id, '--to', `${h.folder}/back`);
    same();
  });

  it('keep the newest points when the library is away, and catch up when it is back', async () => {
    service.library.switches = { ...service.library.switches, down: true };
    const newest = (await points()).at(-1)!;
    expect(await check(newest.id)).toMatchObject({ level: 'fine', text: expect.stringContaining('can not be asked') });
    expect((await restore(newest.id)).state).toBe('done');
    same();
    await protect('d');
    expect((await points()).at(-1)!.copies.map((c) => c.target)).toEqual(['quay-disk']);
    service.library.switches = { ...service.library.switches, down: false };
    await protect('e');
    expect((await points()).map((p) => p.copies.length)).toEqual([2, 2, 2, 2, 2]);
  });
});
