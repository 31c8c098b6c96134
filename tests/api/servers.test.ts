import { spawnSync } from 'node:child_process';
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
let plainId: number;
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
  ({ targetId, workloadId: plainId } = await h.connect(admin));
  ({ id: sourceId, workloadId } = await admin.call('addSource', { body: { name: 'quay-gate', folder, wholeServer: true } }));
  body = policyFor([workloadId], targetId);
  policyId = (await admin.call('addPolicy', { body })).id;
});
afterAll(() => h.stop());

describe('a server that is read whole', () => {
  it('is told to be unproven before there is a point', async () => {
    expect(await ready()).toEqual({ point: null, system: null, parts: [], lastWhole: null, lacksSince: null, points: [] });
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
    expect((await ready()).points.map((p) => p.whole)).toEqual([false, true]);
    const before = await admin.call('readyToRebuild', { id: workloadId, query: { point: whole.id } });
    expect(before).toMatchObject({ point: whole, lastWhole: whole, system: { host: 'quay-gate' } });
    expect(before.parts.every((p) => p.missing === '')).toBe(true);
    const gone = { point: '00000000-0000-4000-8000-000000000000' };
    await expect(admin.call('readyToRebuild', { id: workloadId, query: gone })).rejects.toMatchObject({ code: 'POINT_GONE' });
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

describe('a server made anew on disks', () => {
  const small = { root: 60, logs: 40 };
  const mebibyte = 1 << 20;
  let pointId: string;
  let plainPoint: string;
  const restore = (more: object = {}, disks = [disk('A', 9000, true), disk('B', 300)]) => ({
    picks: [{ pointId, path: '' }],
    destination: { to: 'disks' as const, folder: `${h.folder}/made`, disks, ...more },
    reason: 'its hardware is gone',
  });
  const disk = (id: string, size: number, first = false) => ({ id, bytes: size * mebibyte, first });
  const checks = async (body: ReturnType<typeof restore>) => (await admin.call('planRestore', { body: { name: 'x', ...body } })).checks;

  beforeAll(async () => {
    const mast: MadeServer = { ...gate, host: 'fog-horn', disks: [10e9, 20e9], used: [small.root * mebibyte, small.logs * mebibyte] };
    const root = `${h.folder}/fog-horn`;
    fillServer(root, mast, Date.parse('2026-10-01'));
    fs.writeFileSync(`${h.folder}/fog-horn.json`, JSON.stringify(hardwareOf(mast)));
    const bounds = { hardware: { [root]: `${h.folder}/fog-horn.json` } };
    fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify(bounds));
    await h.killMover('mover-1');
    h.startMover('mover-2');
    const { workloadId: id } = await admin.call('addSource', { body: { name: 'fog-horn', folder: root, wholeServer: true } });
    const kept = { targetId, keep: { by: 'days' as const, days: 9 } };
    await admin.ended((await admin.call('protectOnce', { id, body: kept })).runId);
    pointId = (await admin.call('readyToRebuild', { id })).point!.id;
    await admin.ended((await admin.call('protectOnce', { id: plainId, body: kept })).runId);
    plainPoint = (await admin.call('workload', { id: plainId })).pointList.at(-1)!.id;
  }, 120_000);

  it('is planned with where each volume stands, what becomes smaller, and what stands against it', async () => {
    const plan = await checks(restore());
    expect(plan.find((c) => c.code === 'LAYOUT')!.text).toMatch(/^A: \/boot\/efi .*, \/ .*, swap .*\. B: \/var\/gate /);
    expect(new Set(plan.filter((c) => c.level !== 'fine').map((c) => c.code))).toEqual(new Set(['VOLUME_SMALLER']));
    const tight = await checks(restore({}, [disk('A', 600, true), disk('B', 300)]));
    expect(tight.find((c) => c.code === 'SYSTEM_NOT_PLACED')!.level).toBe('stop');
    const cramped = await checks(restore({}, [disk('A', 9000, true), disk('B', 64)]));
    expect(cramped.find((c) => c.code === 'LAYOUT')!.text).toMatch(/^A: .*\/var\/gate/);
  });

  it('is refused for parts of a point, for what is no server, on disks that can not be, and where a restore may not go', async () => {
    const start = (body: ReturnType<typeof restore>) => admin.call('startRestore', { body });
    await expect(start({ ...restore(), picks: [{ pointId, path: 'etc' }] })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(start({ ...restore(), picks: [{ pointId: plainPoint, path: '' }] })).rejects.toMatchObject({
      code: 'INVALID',
      message: expect.stringContaining('holds no system parts') as string,
    });
    for (const disks of [[], [disk('A', 9000)], [disk('A', 9000, true), disk('a', 9000)], [disk('../A', 9000, true)]])
      await expect(start(restore({}, disks))).rejects.toMatchObject({ code: 'INVALID' });
    for (const folder of ['/etc/made', `${h.folder}/keys`, `${h.folder}/store/made`])
      await expect(start(restore({ folder }))).rejects.toMatchObject({ code: 'INVALID' });
    await expect((await h.as('clerk')).call('startRestore', { body: restore() })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    expect(fs.existsSync(`${h.folder}/made`)).toBe(false);
  });

  const made = () => fs.readdirSync(`${h.folder}/made`).map((name) => `${h.folder}/made/${name}`);
  const whole = async (folder: string) => {
    expect(fs.readdirSync(folder).sort()).toEqual(['A.raw', 'B.raw']);
    for (const name of ['A', 'B']) expect(spawnSync('sfdisk', ['-V', `${folder}/${name}.raw`])).toMatchObject({ status: 0 });
    const tables = ['A', 'B'].flatMap((name) => {
      const told = spawnSync('sfdisk', ['--json', `${folder}/${name}.raw`], { encoding: 'utf8' }).stdout;
      const { partitions } = (JSON.parse(told) as { partitiontable: { partitions: { start: number; size: number }[] } }).partitiontable;
      return partitions.map((p) => ({ file: `${folder}/${name}.raw`, start: p.start * 512 }));
    });
    expect(tables).toHaveLength(4);
    for (const { file, start } of [tables[1]!, tables[3]!])
      expect(spawnSync('e2fsck', ['-fn', `${file}?offset=${start}`]), `${file} at ${start}`).toMatchObject({ status: 0 });
    const shown = spawnSync('debugfs', ['-R', 'cat /etc/hostname', `${folder}/A.raw?offset=${tables[1]!.start}`], { encoding: 'utf8' });
    expect(shown.stdout).toBe('fog-horn\n');
    return Promise.resolve();
  };

  it('stands there with clean file systems, and nothing else is left; a trial writes nothing', async () => {
    const trial = await admin.ended((await admin.call('startRestore', { body: { ...restore(), trial: true } })).runId);
    expect(trial.state).toBe('done');
    expect(fs.existsSync(`${h.folder}/made`)).toBe(false);
    const ended = await admin.ended((await admin.call('startRestore', { body: restore() })).runId);
    expect(ended.tasks[0]).toMatchObject({ cause: null });
    expect(made()).toHaveLength(1);
    await whole(made()[0]!);
    fs.rmSync(`${h.folder}/made`, { recursive: true });
  });

  it('is made once and whole when the mover is killed in the middle', async () => {
    const { runId } = await admin.call('startRestore', { body: restore() });
    const begun = () => fs.existsSync(`${h.folder}/made`) && made().some((folder) => fs.existsSync(`${folder}/A.raw.partial`));
    for (const until = Date.now() + 30_000; !begun() && Date.now() < until;) await new Promise((resume) => setTimeout(resume, 5));
    await h.killMover('mover-2');
    expect(made()).toHaveLength(1);
    expect(fs.existsSync(`${made()[0]!}/A.raw`)).toBe(false);
    h.startMover('mover-3');
    // leases are looked after in the rounds of the scheduler
    const state = async () => {
      await h.tick();
      return (await admin.call('getRun', { id: runId })).state;
    };
    await expect.poll(state, { timeout: 60_000, interval: 200 }).toBe('done');
    expect(made()).toHaveLength(1);
    await whole(made()[0]!);
  });
});
