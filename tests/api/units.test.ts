import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';
import { fillServer, hardwareOf, makeUnit, type MadeServer, type MadeUnit } from '@lithodex/standins';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { freePort } from '../../scripts/launcher/mariadb.mjs';
import { describeTree } from '../support/nasty-tree';
import { Client, Harness, type CallOptions } from '../support/harness';

const mebibyte = 1 << 20;
const gate: MadeServer = { host: 'quay-gate', address: '192.0.2.37/24', disks: [10e9, 20e9], used: [100 * mebibyte, 10 * mebibyte] };
const usual: MadeUnit = {
  firmware: 'uefi',
  memory: 16e9,
  disks: [
    { id: 'K3-91', bytes: 900 * mebibyte, port: 'ata 2', first: false },
    { id: 'K3-88', bytes: 9000 * mebibyte, port: 'ata 1', first: true },
  ],
  cards: ['eno1'],
};

let h: Harness;
let admin: Client;
let root: string;
let workloadId: number;
let pointId: string;
const units = new Set<ChildProcess>();

beforeAll(async () => {
  h = await Harness.start({ movers: 0, schedulerMs: 0 });
  admin = await h.as('administrator');
  root = `${h.folder}/quay-gate`;
  fillServer(root, gate, Date.parse('2026-10-01'));
  fs.writeFileSync(`${root}/srv/gate/odd\nname`, 'kept as it is');
  fs.symlinkSync('/etc/hostname', `${root}/srv/gate/link`);
  fs.linkSync(`${root}/srv/gate/barriers.csv`, `${root}/srv/gate/twin`);
  fs.chownSync(`${root}/srv/gate/barriers.csv`, 1234, 4321);
  fs.chmodSync(`${root}/srv/gate/barriers.csv`, 0o4750);
  fs.writeFileSync(`${root}/var/gate/today`, Buffer.alloc(3 * mebibyte, 'the gate opened. '));
  fs.writeFileSync(`${h.folder}/quay-gate.json`, JSON.stringify(hardwareOf(gate)));
  fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ hardware: { [root]: `${h.folder}/quay-gate.json` } }));
  h.startMover('mover-1', { receive: await freePort() });
  const { targetId } = await h.connect(admin);
  ({ workloadId } = await admin.call('addSource', { body: { name: 'quay-gate', folder: root, wholeServer: true } }));
  const body = { targetId, keep: { by: 'days' as const, days: 9 } };
  await admin.ended((await admin.call('protectOnce', { id: workloadId, body })).runId);
  pointId = (await admin.call('readyToRebuild', { id: workloadId })).point!.id;
}, 120_000);
afterEach(async () => {
  for (const unit of units) await ended(unit, 'SIGKILL');
  for (const { name } of (await admin.call('listUnits')).rows) await admin.call('forgetUnit', { id: name });
});
afterAll(() => h.stop());

async function ended(unit: ChildProcess, signal?: NodeJS.Signals): Promise<void> {
  units.delete(unit);
  if (unit.exitCode !== null || unit.signalCode !== null) return;
  const gone = new Promise((resume) => unit.once('exit', resume));
  if (signal) unit.kill(signal);
  await gone;
}

const invite = async () => (await admin.call('inviteUnit', { body: {} })).code;
const folderOf = (name: string) => `${h.folder}/room/${name}`;

/** Starts a unit from what stands for the recovery medium. */
function boot(name: string, code: string, room = `${folderOf(name)}/unit.json`): ChildProcess {
  const args = ['--server', h.base, '--name', name, '--token-file', `${folderOf(name)}/token`, '--room', room, '--join', code];
  const unit = spawn(process.execPath, ['dist/node/unit.js', ...args, '--log-level', process.env['LITHODEX_LOG'] ?? 'silent'], {
    stdio: ['ignore', 'inherit', process.env['LITHODEX_LOG'] ? 'inherit' : 'ignore'],
  });
  units.add(unit);
  return unit;
}

const listed = async (name: string) => (await admin.call('listUnits')).rows.find((u) => u.name === name);
async function reported(name: string): Promise<void> {
  await expect.poll(async () => (await listed(name))?.present, { timeout: 30_000, interval: 50 }).toBe(true);
}

async function unit(name: string, made: MadeUnit = usual): Promise<ChildProcess> {
  makeUnit(folderOf(name), made);
  const started = boot(name, await invite());
  await reported(name);
  return started;
}

const restore = (name: string, more: object = {}): NonNullable<CallOptions<'startRestore'>['body']> => ({
  picks: [{ pointId, path: '' }],
  destination: { to: 'unit', unit: name, ...more },
  reason: 'its hardware is gone',
});
const checks = async (name: string, more: object = {}) =>
  (await admin.call('planRestore', { body: { name: 'x', ...restore(name, more) } })).checks;
const stops = async (name: string, more: object = {}) => (await checks(name, more)).filter((c) => c.level === 'stop').map((c) => c.code);
const rebuild = async (name: string, more: object = {}) =>
  admin.ended((await admin.call('startRestore', { body: restore(name, more) })).runId);

interface Part {
  readonly file: string;
  readonly start: number;
}
function partsOf(name: string, id: string): Part[] {
  const file = `${folderOf(name)}/${id}.img`;
  const told = spawnSync('sfdisk', ['--json', file], { encoding: 'utf8' }).stdout;
  const { partitions } = (JSON.parse(told) as { partitiontable: { partitions: { start: number }[] } }).partitiontable;
  return partitions.map((p) => ({ file, start: p.start * 512 }));
}
const inside = ({ file, start }: Part, request: string) =>
  spawnSync('debugfs', ['-R', request, `${file}?offset=${start}`], { encoding: 'utf8' }).stdout;

/** The server stands on the disks of a unit, clean, with all its files. */
function expectWhole(name: string): void {
  for (const { id } of usual.disks) expect(spawnSync('sfdisk', ['-V', `${folderOf(name)}/${id}.img`])).toMatchObject({ status: 0 });
  const system = partsOf(name, 'K3-88')[1]!;
  const logs = partsOf(name, 'K3-91')[0]!;
  for (const { file, start } of [system, logs])
    expect(spawnSync('e2fsck', ['-fn', `${file}?offset=${start}`], { encoding: 'utf8' }), file).toMatchObject({ status: 0 });
  const into = `${h.folder}/dumped-${name}`;
  for (const [part, folder] of [
    [system, ''],
    [logs, '/var/gate'],
  ] as const) {
    fs.mkdirSync(into + folder, { recursive: true });
    inside(part, `rdump / ${into}${folder}`);
  }
  expect(inside(system, 'stat /srv/gate/barriers.csv')).toMatch(/Mode: {2}04750[\s\S]*User: {2}1234 {3}Group: {2}4321[\s\S]*Links: 2/);
  const contents = (tree: string) =>
    describeTree(tree)
      .split('\n')
      .filter((line) => line.includes('|f|') && !/boot\/efi|proc\/|lost\+found/.test(line))
      .map((line) => line.split('|')[0] ?? '');
  expect(contents(into)).toEqual(contents(root));
  for (const file of ['etc/fstab', 'srv/gate/odd\nname', 'var/gate/today', 'srv/gate/twin'])
    expect(fs.readFileSync(`${into}/${file}`).equals(fs.readFileSync(`${root}/${file}`)), file).toBe(true);
  expect(fs.readlinkSync(`${into}/srv/gate/link`)).toBe('/etc/hostname');
  fs.rmSync(into, { recursive: true });
}

describe('a unit', () => {
  it('reports in by a code that works once, and says what it is', async () => {
    const code = await invite();
    makeUnit(folderOf('C4-07'), usual);
    boot('C4-07', code);
    await reported('C4-07');
    expect((await listed('C4-07'))!.facts).toMatchObject({
      firmware: 'uefi',
      memory: 16e9,
      disks: [
        { id: 'K3-91', bytes: 900 * mebibyte, holds: '', first: false },
        { id: 'K3-88', bytes: 9000 * mebibyte, holds: '', first: true },
      ],
    });
    makeUnit(folderOf('C4-08'), usual);
    const second = boot('C4-08', code);
    await ended(second);
    expect(second.exitCode).not.toBe(0);
    expect(await listed('C4-08')).toBeUndefined();
    await h.server.deps.db('join_code').update({ until: 1 });
    const late = boot('C4-08', code);
    await ended(late);
    expect(late.exitCode).not.toBe(0);
    expect((await admin.call('listMovers')).rows.map((m) => m.name)).toEqual(['mover-1']);
    const { rows } = await admin.call('audit', { query: { limit: 20 } });
    expect(rows.filter((r) => r.action === 'join.refused').map((r) => r.object)).toEqual(['mover C4-08', 'mover C4-08']);
  });

  it('can do nothing but report in and be made anew', async () => {
    await unit('C4-07');
    const token = new Client(() => h.base, fs.readFileSync(`${folderOf('C4-07')}/token`, 'utf8').trim());
    const refused = { code: 'NOT_ALLOWED' };
    await expect(token.call('claim', { body: { mover: 'C4-07', speaks: 13 } })).rejects.toMatchObject(refused);
    await expect(token.call('estate')).rejects.toMatchObject(refused);
    const facts = (await listed('C4-07'))!.facts;
    await expect(token.call('tellUnit', { body: { unit: 'other', speaks: 13, facts } })).rejects.toMatchObject(refused);
    const id = crypto.randomUUID();
    await expect(
      token.call('callUnit', { id, body: { attempt: 1, address: '127.0.0.1:9', ticket: { id, key: '0'.repeat(64) } } }),
    ).rejects.toMatchObject({ code: 'LEASE_LOST' });
    const mover = await h.withToken('mover');
    await expect(mover.call('tellUnit', { body: { unit: 'C4-07', speaks: 13, facts } })).rejects.toMatchObject(refused);
    for (const role of ['operator', 'auditor', 'clerk'] as const) {
      await expect((await h.as(role)).call('inviteUnit', { body: {} })).rejects.toMatchObject(refused);
      await expect((await h.as(role)).call('forgetUnit', { id: 'C4-07' })).rejects.toMatchObject(refused);
      await expect((await h.as(role)).call('startRestore', { body: restore('C4-07') })).rejects.toMatchObject(refused);
    }
    await admin.call('forgetUnit', { id: 'C4-07' });
    await expect(token.call('questions', { body: { mover: 'C4-07', speaks: 13 } })).rejects.toMatchObject({ code: 'NOT_SIGNED_IN' });
  });

  it('is told beforehand what stands against it, each with its number', async () => {
    await unit('C4-07', {
      ...usual,
      memory: 8e9,
      disks: [{ ...usual.disks[0]!, label: 'old test system' }, usual.disks[1]!],
      undriven: ['enp3s0'],
    });
    const said = await checks('C4-07');
    expect(said.find((c) => c.code === 'DISK_NOT_EMPTY')).toMatchObject({
      level: 'stop',
      text: expect.stringContaining('“old test system”, ext4') as string,
    });
    expect(said.find((c) => c.code === 'MEMORY_SMALL')).toMatchObject({
      level: 'look',
      text: expect.stringContaining('8.00 GB of memory instead of 16.0 GB') as string,
    });
    expect(said.find((c) => c.code === 'NO_DRIVER')!.text).toBe('enp3s0 has no driver here.');
    await expect(admin.call('startRestore', { body: restore('C4-07') })).rejects.toMatchObject({ code: 'INVALID' });
    expect(await stops('C4-07', { erase: ['K3-91'] })).toEqual([]);
    const layout = (no: number, start: number, bytes: number) => [
      { disk: 'K3-91', table: 'gpt', partitions: [{ no, start, bytes, for: { volume: 'sda2' } }] },
    ];
    expect(await stops('C4-07', { erase: ['K3-91'], layout: layout(1, mebibyte, 200 * mebibyte) })).toEqual(
      expect.arrayContaining(['VOLUME_TIGHT', 'SYSTEM_NOT_FIRST', 'SYSTEM_NOT_PLACED', 'NO_LOADER']),
    );
    expect(await stops('C4-07', { erase: ['K3-91'], layout: layout(1, mebibyte, 2000 * mebibyte) })).toContain('OUT_OF_DISK');
    await expect(checks('C4-99')).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('of another processor, started by BIOS, or with too little memory is refused', async () => {
    await unit('C4-07', { ...usual, firmware: 'bios', architecture: 'aarch64', memory: 256 * mebibyte });
    expect(await stops('C4-07')).toEqual(expect.arrayContaining(['OTHER_PROCESSOR', 'BIOS', 'MEMORY_SMALL']));
  });

  it('becomes the server: tables and file systems clean, every file as it was, and needs its code no more', async () => {
    const started = await unit('C4-07');
    const trial = await admin.ended((await admin.call('startRestore', { body: { ...restore('C4-07'), trial: true } })).runId);
    expect(trial.state).toBe('done');
    expect((await listed('C4-07'))!.facts.disks.map((d) => d.holds)).toEqual(['', '']);
    const run = await rebuild('C4-07');
    expect(run.tasks[0]).toMatchObject({ state: 'done', cause: null });
    expect(run.tasks[0]!.phases.map((p) => p.name)).toEqual(
      expect.arrayContaining(['preparing disks', 'writing /', 'comparing', 'partitioning']),
    );
    await ended(started);
    expect(started.exitCode).toBe(0);
    expect(fs.existsSync(`${folderOf('C4-07')}/token`)).toBe(false);
    expectWhole('C4-07');
    expect((await listed('C4-07'))!.run).toMatchObject({ id: run.id, state: 'done', workload: 'quay-gate' });
  });

  it('whose power is cut begins anew and becomes whole, whatever it had written; so does one whose mover is killed', async () => {
    let running = await unit('C4-07');
    const { runId } = await admin.call('startRestore', { body: restore('C4-07') });
    const work = `${folderOf('C4-07')}/work`;
    const begun = () => fs.existsSync(work);
    // files of a volume are there; then disks that are half written
    for (const cutAt of [begun, () => usual.disks.some(({ id }) => fs.statSync(`${folderOf('C4-07')}/${id}.img`).blocks > 64)]) {
      await expect.poll(cutAt, { timeout: 120_000, interval: 5 }).toBe(true);
      await ended(running, 'SIGKILL');
      // it starts from the medium again
      fs.rmSync(`${folderOf('C4-07')}/token`);
      fs.rmSync(work, { recursive: true, force: true });
      running = boot('C4-07', await invite());
    }
    await expect.poll(begun, { timeout: 120_000, interval: 5 }).toBe(true);
    await h.killMover('mover-1');
    h.startMover('mover-2', { receive: await freePort() });
    const state = async () => {
      await h.tick();
      return (await admin.call('getRun', { id: runId })).state;
    };
    await expect.poll(state, { timeout: 120_000, interval: 200 }).not.toMatch(/running|waiting/);
    expect((await admin.call('getRun', { id: runId })).tasks[0]).toMatchObject({ state: 'done', cause: null });
    await ended(running);
    expectWhole('C4-07');
  }, 240_000);

  it('that fails while it is written says why, leaves nothing to start from, and is made anew by one act', async () => {
    await unit('C4-07', { ...usual, disks: [{ ...usual.disks[0]!, failsAt: 100 * mebibyte }, usual.disks[1]!] });
    const failed = await rebuild('C4-07');
    expect(failed.tasks[0]).toMatchObject({
      state: 'failed',
      cause: { code: 'REBUILD_FAILED', message: expect.stringContaining('the disk K3-91 failed while it was written') as string },
    });
    expect((await listed('C4-07'))!.run).toMatchObject({ id: failed.id, state: 'failed' });
    for (const { id } of usual.disks) expect(spawnSync('sfdisk', ['--json', `${folderOf('C4-07')}/${id}.img`]).status).not.toBe(0);
    const room = `${folderOf('C4-07')}/unit.json`;
    fs.writeFileSync(room, fs.readFileSync(room, 'utf8').replace(/"failsAt":\d+/, '"failsAt":null'));
    expect(await rebuild('C4-07')).toMatchObject({ state: 'done' });
    expectWhole('C4-07');
  });
});
