import fs from 'node:fs';
import { fillServer, hardwareOf, type MadeServer } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { freePort } from '../../scripts/launcher/mariadb.mjs';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let folder: string;
let workloadId: number;
let sourceId: number;
let policyId: number;
let targetId: string;
let body: ReturnType<typeof policyFor>;

const gate: MadeServer = { host: 'quay-gate', address: '192.0.2.37/24', disks: [64e9, 500e9], used: [31.4e9, 212e9] };
const run = async () => admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
const ready = () => admin.call('readyToRebuild', { id: workloadId });

beforeAll(async () => {
  h = await Harness.start({ movers: 0, schedulerMs: 0 });
  admin = await h.as('administrator');
  folder = `${h.folder}/quay-gate`;
  fillServer(folder, gate, Date.parse('2026-10-01'));
  fs.writeFileSync(`${h.folder}/quay-gate.json`, JSON.stringify(hardwareOf(gate)));
  fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ hardware: { [folder]: `${h.folder}/quay-gate.json` } }));
  h.startMover('mover-1', { receive: await freePort() });
  ({ targetId } = await h.connect(admin));
  ({ id: sourceId, workloadId } = await admin.call('addSource', { body: { name: 'quay-gate', folder, wholeServer: true } }));
  body = policyFor([workloadId], targetId);
  policyId = (await admin.call('addPolicy', { body })).id;
});
afterAll(() => h.stop());

describe('a server that is read whole', () => {
  it('is told to be unproven before there is a point', async () => {
    expect(await ready()).toEqual({ point: null, system: null, parts: [], lastWhole: null, lacksSince: null });
    expect(await admin.call('workload', { id: workloadId })).toMatchObject({ wholeServer: true });
  });

  it('has its system parts in the point, and could be rebuilt from it', async () => {
    expect(await run()).toMatchObject({ state: 'done' });
    const { point, system, parts, lastWhole, lacksSince } = await ready();
    expect(lastWhole).toEqual(point);
    expect(lacksSince).toBeNull();
    expect(parts.map((p) => p.missing)).toEqual(parts.map(() => ''));
    expect(system).toMatchObject({
      host: 'quay-gate',
      firmware: 'uefi',
      loader: 'GRUB',
      memory: 16e9,
      packages: 4,
      nameServers: ['192.0.2.53'],
      kernels: [{ initramfs: true, modules: true }],
    });
    expect(system!.disks.map((d) => [d.name, d.bytes, d.table, d.partitions.length])).toEqual([
      ['sda', 64e9, 'gpt', 3],
      ['sdb', 500e9, 'gpt', 1],
    ]);
    expect(system!.volumes.map((v) => [v.mount, v.fileSystem, v.on, v.taken])).toEqual([
      ['/boot/efi', 'vfat', ['sda1'], true],
      ['/', 'ext4', ['sda2'], true],
      ['', 'swap', ['sda3'], false],
      ['/var/gate', 'ext4', ['sdb1'], true],
    ]);
  });

  it('keeps its files as any source does, without what its kernel makes up', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    const point = pointList.at(-1)!;
    expect(point.facts).toBeNull();
    const { rows } = await admin.call('tree', { id: point.id, query: { path: '' } });
    expect(rows.map((r) => r.name)).toEqual(['boot', 'etc', 'srv', 'usr', 'var']);
    const into = `${h.folder}/back`;
    const restore = {
      picks: [{ pointId: point.id, path: 'srv/gate/barriers.csv' }],
      destination: { to: 'folder' as const, folder: into },
      reason: 'a test of the return',
    };
    expect((await admin.ended((await admin.call('startRestore', { body: restore })).runId)).state).toBe('done');
    expect(fs.readFileSync(`${into}/srv/gate/barriers.csv`, 'utf8')).toContain('north;1');
  });

  it('that lacks an essential part ends with parts missing, and is a matter with the reason and the last whole point', async () => {
    const whole = (await ready()).point!;
    await h.agree(await admin.call('changePolicy', { id: policyId, body: { ...body, exclude: ['/boot/'] } }));
    const lacking = await run();
    expect(lacking).toMatchObject({ state: 'partsMissing' });
    const { parts, lastWhole, lacksSince, point } = await ready();
    expect(lastWhole).toEqual(whole);
    expect(lacksSince).toBe(point!.moment);
    expect(Object.fromEntries(parts.filter((p) => p.missing).map((p) => [p.part, p.missing]))).toMatchObject({
      layout: expect.stringContaining('/boot/efi') as string,
      kernel: 'no kernel was found in /boot',
    });
    const { matters } = await admin.call('watch');
    const matter = matters.find((m) => m.id === `rebuild-${workloadId}`);
    expect(matter).toMatchObject({ title: 'quay-gate could not be rebuilt', level: 'fault', since: lacksSince });
    expect(matter!.text).toContain('no kernel was found in /boot');
    expect(matters.some((m) => m.id === `parts-${workloadId}`)).toBe(false);
    // what can't be read of other files is no such matter
    await h.agree(await admin.call('changePolicy', { id: policyId, body: { ...body, exclude: ['/var/lib/dpkg/'] } }));
    expect(await run()).toMatchObject({ state: 'done' });
    expect((await ready()).parts.filter((p) => p.missing)).toMatchObject([{ part: 'packages', essential: false }]);
    expect((await admin.call('watch')).matters.some((m) => m.id === `rebuild-${workloadId}`)).toBe(false);
  });

  it('is read by a mover on it that keeps no keys, by what that one is told of its hardware', async () => {
    const mast: MadeServer = { ...gate, host: 'signal-mast' };
    const root = `${h.folder}/signal-mast`;
    fillServer(root, mast, Date.parse('2026-10-01'));
    fs.writeFileSync(`${h.folder}/signal-mast.json`, JSON.stringify(hardwareOf(mast)));
    await h.joinReader(admin, 'on-the-mast', { read: [root], hardware: { [root]: `${h.folder}/signal-mast.json` } });
    await h.moverReady();
    const source = { name: 'signal-mast', folder: root, wholeServer: true, readBy: 'on-the-mast' };
    const { workloadId: id } = await admin.call('addSource', { body: source });
    const kept = { targetId, keep: { by: 'days' as const, days: 9 } };
    expect(await admin.ended((await admin.call('protectOnce', { id, body: kept })).runId)).toMatchObject({ state: 'done' });
    const { system, lastWhole, point } = await admin.call('readyToRebuild', { id });
    expect(lastWhole).toEqual(point);
    expect(system).toMatchObject({ host: 'signal-mast', firmware: 'uefi' });
  });

  it('is none where the folder is not the root of a server', async () => {
    const plain = `${h.folder}/plain`;
    fs.mkdirSync(plain);
    const other = await admin.call('addSource', { body: { name: 'plain', folder: plain, wholeServer: true } });
    await h.agree(await admin.call('changePolicy', { id: policyId, body: { ...body, workloads: [other.workloadId] } }));
    expect((await run()).tasks[0]!.cause).toMatchObject({ code: 'NO_SERVER' });
  });

  it('is shown to a clerk in whose remit it is, and changed by an administrator only', async () => {
    const clerk = await h.as('clerk');
    await expect(clerk.call('readyToRebuild', { id: workloadId })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    const change = { name: 'quay-gate', folder, wholeServer: false };
    await expect((await h.as('operator')).call('changeSource', { id: sourceId, body: change })).rejects.toMatchObject({
      code: 'NOT_ALLOWED',
    });
    await admin.call('changeSource', { id: sourceId, body: change });
    expect(await admin.call('workload', { id: workloadId })).toMatchObject({ wholeServer: false });
  });
});
