import { spawnSync } from 'node:child_process';
import fs from 'node:fs';
import { makeUnit } from '@lithodex/standins';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { freePort } from '../../scripts/launcher/mariadb.mjs';
import { rounds } from '../support/by-command';
import { Client, Harness, type CallOptions } from '../support/harness';
import { UnitRoom, usualUnit as usual } from '../support/unit-room';

const mebibyte = 1 << 20;

let h: Harness;
let admin: Client;
let room: UnitRoom;

beforeAll(async () => {
  h = await Harness.start({ movers: 0, schedulerMs: 0 });
  admin = await h.as('administrator');
  room = await UnitRoom.open(h, admin);
}, 120_000);
afterEach(() => room.cleared());
afterAll(() => h.stop());

const restore = (name: string, more: object = {}): NonNullable<CallOptions<'startRestore'>['body']> => ({
  picks: [{ pointId: room.pointId, path: '' }],
  destination: { to: 'unit', unit: name, ...more },
  reason: 'its hardware is gone',
});
const checks = async (name: string, more: object = {}) =>
  (await admin.call('planRestore', { body: { name: 'x', ...restore(name, more) } })).checks;
const stops = async (name: string, more: object = {}) => (await checks(name, more)).filter((c) => c.level === 'stop').map((c) => c.code);
const rebuild = async (name: string, more: object = {}) =>
  admin.ended((await admin.call('startRestore', { body: restore(name, more) })).runId);

describe('a unit', () => {
  it('reports in by a code that works once, and says what it is', async () => {
    const code = await room.invite();
    makeUnit(room.folderOf('C4-07'), usual);
    room.boot('C4-07', code);
    await room.reported('C4-07');
    expect((await room.listed('C4-07'))!.facts).toMatchObject({
      firmware: 'uefi',
      memory: 16e9,
      disks: [
        { id: 'K3-91', bytes: 900 * mebibyte, holds: '', first: false },
        { id: 'K3-88', bytes: 9000 * mebibyte, holds: '', first: true },
      ],
    });
    makeUnit(room.folderOf('C4-08'), usual);
    const second = room.boot('C4-08', code);
    await room.ended(second);
    expect(second.exitCode).not.toBe(0);
    expect(await room.listed('C4-08')).toBeUndefined();
    await h.server.deps.db('join_code').update({ until: 1 });
    const late = room.boot('C4-08', code);
    await room.ended(late);
    expect(late.exitCode).not.toBe(0);
    expect((await admin.call('listMovers')).rows.map((m) => m.name)).toEqual(['mover-1']);
    const { rows } = await admin.call('audit', { query: { limit: 20 } });
    expect(rows.filter((r) => r.action === 'join.refused').map((r) => r.object)).toEqual(['mover C4-08', 'mover C4-08']);
  });

  it('can do nothing but report in and be made anew', async () => {
    await room.unit('C4-07');
    const token = new Client(() => h.base, fs.readFileSync(`${room.folderOf('C4-07')}/token`, 'utf8').trim());
    const refused = { code: 'NOT_ALLOWED' };
    await expect(token.call('claim', { body: { mover: 'C4-07', speaks: 13 } })).rejects.toMatchObject(refused);
    await expect(token.call('estate')).rejects.toMatchObject(refused);
    const facts = (await room.listed('C4-07'))!.facts;
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
    await room.unit('C4-07', {
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
    await room.unit('C4-07', { ...usual, firmware: 'bios', architecture: 'aarch64', memory: 256 * mebibyte });
    expect(await stops('C4-07')).toEqual(expect.arrayContaining(['OTHER_PROCESSOR', 'BIOS', 'MEMORY_SMALL']));
  });

  it('becomes the server: tables and file systems clean, every file as it was, and needs its code no more', async () => {
    const started = await room.unit('C4-07');
    const trial = await admin.ended((await admin.call('startRestore', { body: { ...restore('C4-07'), trial: true } })).runId);
    expect(trial.state).toBe('done');
    expect((await room.listed('C4-07'))!.facts.disks.map((d) => d.holds)).toEqual(['', '']);
    const run = await rebuild('C4-07');
    expect(run.tasks[0]).toMatchObject({ state: 'done', cause: null });
    expect(run.tasks[0]!.phases.map((p) => p.name)).toEqual(
      expect.arrayContaining(['preparing disks', 'writing /', 'comparing', 'partitioning']),
    );
    await room.ended(started);
    expect(started.exitCode).toBe(0);
    expect(fs.existsSync(`${room.folderOf('C4-07')}/token`)).toBe(false);
    room.expectWhole('C4-07');
    expect((await room.listed('C4-07'))!.run).toMatchObject({ id: run.id, state: 'done', workload: 'quay-gate' });
  });

  it('whose power is cut begins anew and becomes whole, whatever it had written; so does one whose mover is killed', async () => {
    let running = await room.unit('C4-07');
    const { runId } = await admin.call('startRestore', { body: restore('C4-07') });
    const work = `${room.folderOf('C4-07')}/work`;
    const begun = () => fs.existsSync(work);
    // disks that are half written; files of a volume are there
    const disksBegun = () => usual.disks.some(({ id }) => fs.statSync(`${room.folderOf('C4-07')}/${id}.img`).blocks > 64);
    for (const cutAt of [disksBegun, begun].slice(0, rounds(1, 2))) {
      await expect.poll(cutAt, { timeout: 120_000, interval: 5 }).toBe(true);
      await room.ended(running, 'SIGKILL');
      // it starts from the medium again
      fs.rmSync(`${room.folderOf('C4-07')}/token`);
      fs.rmSync(work, { recursive: true, force: true });
      running = room.boot('C4-07', await room.invite());
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
    await room.ended(running);
    room.expectWhole('C4-07');
  }, 240_000);

  it('that fails while it is written says why, leaves nothing to start from, and is made anew by one act', async () => {
    await room.unit('C4-07', { ...usual, disks: [{ ...usual.disks[0]!, failsAt: 100 * mebibyte }, usual.disks[1]!] });
    const failed = await rebuild('C4-07');
    expect(failed.tasks[0]).toMatchObject({
      state: 'failed',
      cause: { code: 'REBUILD_FAILED', message: expect.stringContaining('the disk K3-91 failed while it was written') as string },
    });
    expect((await room.listed('C4-07'))!.run).toMatchObject({ id: failed.id, state: 'failed' });
    for (const { id } of usual.disks) expect(spawnSync('sfdisk', ['--json', `${room.folderOf('C4-07')}/${id}.img`]).status).not.toBe(0);
    const file = `${room.folderOf('C4-07')}/unit.json`;
    fs.writeFileSync(file, fs.readFileSync(file, 'utf8').replace(/"failsAt":\d+/, '"failsAt":null'));
    expect(await rebuild('C4-07')).toMatchObject({ state: 'done' });
    room.expectWhole('C4-07');
  });
});
