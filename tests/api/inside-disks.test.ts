import { execFile, execFileSync } from 'node:child_process';
import fs from 'node:fs';
import https from 'node:https';
import { promisify } from 'node:util';
import { queueRun } from '@lithodex/server';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import { letGuestWrite, platformRights, type PlatformService } from '@lithodex/standins';
import { Harness, policyFor, type Client, type Refused } from '../support/harness';
import { buildLogger, keeper, soundDisks, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let pointId: string;
let targetId: string;
let workloadId: number;
const log = 'disks/system.raw/p2/var/log/gate.log';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  await buildLogger(service, 'gate-01', { tags: ['gates'] });
  await buildLogger(service, 'gate-02', { host: 'mole-2' });
  await admin.call('addPlatform', { body: started.body });
  workloadId = (await admin.call('estate')).workloads.find((w) => w.name === 'gate-01')!.id;
  const policy = await admin.call('addPolicy', { body: policyFor([workloadId], targetId) });
  await admin.ended((await admin.call('runPolicy', { id: policy.id, body: {} })).runId);
  pointId = (await admin.call('workload', { id: workloadId })).pointList[0]!.id;
}, 90_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

const tree = async (path: string, query: { cursor?: string; limit?: number } = {}) =>
  admin.call('tree', { id: pointId, query: { path, ...query } });
const download = async (runId: number) => Buffer.from(await (await admin.fetch('download', { id: runId })).arrayBuffer());
const restore = async (more: Omit<BodyInput<'startRestore'>, 'reason'>) =>
  admin.ended((await admin.call('startRestore', { body: { reason: 'a file is wanted', ...more } })).runId);

describe('what is inside the disks of a machine', () => {
  it('is walked like folders: volumes with what they hold, then their files', async () => {
    expect((await tree('disks')).rows).toMatchObject([{ name: 'system.raw', kind: 'file', opens: true }]);
    const volumes = await tree('disks/system.raw');
    expect(volumes).toMatchObject({ inside: true, next: null });
    expect(volumes.rows).toMatchObject([
      { name: 'p1', kind: 'folder', about: 'FAT16 “EFI”', unread: false },
      { name: 'p2', path: 'disks/system.raw/p2', kind: 'folder', about: 'ext4 “system”' },
    ]);
    expect((await tree('disks/system.raw/p2')).rows.map((r) => r.name)).toEqual(['etc', 'lost+found', 'var']);
    expect((await tree('disks/system.raw/p2/var/log')).rows).toMatchObject([{ name: 'gate.log', kind: 'file', size: 2000 * 15 }]);
    const first = await tree('disks/system.raw/p2', { limit: 2 });
    expect(first.next).toBe('lost+found');
    expect((await tree('disks/system.raw/p2', { limit: 2, cursor: first.next! })).rows.map((r) => r.name)).toEqual(['var']);
  });

  it('is refused where the path leads nowhere, out of the disk, or into a file', async () => {
    for (const path of ['disks/system.raw/p9', 'disks/system.raw/p2/no', log, 'disks/none.raw', 'disks/none.raw/p1'])
      expect(await tree(path).catch((e: unknown) => (e as Refused).status)).toBeGreaterThanOrEqual(400);
    await expect(tree('disks/system.raw/../../keys')).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('is not shown to a clerk of others', async () => {
    const clerk = await h.as('clerk');
    await expect(clerk.call('tree', { id: pointId, query: { path: 'disks/system.raw' } })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    await expect(clerk.call('preview', { id: pointId, query: { path: log } })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    for (const role of ['operator', 'auditor'] as const)
      await expect((await h.as(role)).call('preview', { id: pointId, query: { path: log } })).rejects.toMatchObject({
        code: 'NOT_ALLOWED',
      });
  });

  it('is looked into, and that is recorded', async () => {
    const shown = await admin.call('preview', { id: pointId, query: { path: log } });
    expect(shown).toMatchObject({ as: 'text', size: 30_000, whole: true });
    expect(shown.as === 'text' && shown.text.startsWith('gate-01 opened\n')).toBe(true);
    expect(await admin.call('preview', { id: pointId, query: { path: 'machine.json' } })).toMatchObject({ as: 'text' });
    expect((await admin.call('audit', { query: { limit: 3 } })).rows.map((r) => r.action)).toContain('item.preview');
    expect(
      await admin.call('preview', { id: pointId, query: { path: 'disks/system.raw/p2/var' } }).catch((e: unknown) => (e as Refused).status),
    ).toBeGreaterThanOrEqual(400);
  });

  it('comes back to a folder of the mover, planned beforehand against what is there', async () => {
    const folder = `${h.folder}/returned`;
    const body = {
      picks: [
        { pointId, path: log },
        { pointId, path: 'disks/system.raw/p2/etc' },
      ],
      destination: { to: 'folder' as const, folder, keepPath: false },
    };
    const plan = await admin.call('planRestore', { body: { name: 'a file', ...body } });
    expect(plan.items).toMatchObject([
      { name: 'gate.log', kind: 'file', size: 30_000, items: 1, goesTo: `${folder}/gate.log` },
      { name: 'etc', kind: 'folder', items: 2 },
    ]);
    expect(plan.checks.filter((c) => c.level === 'stop')).toEqual([]);
    const run = await restore(body);
    expect(run).toMatchObject({ state: 'done', counts: { failed: 0 } });
    expect(fs.readFileSync(`${folder}/gate.log`, 'utf8')).toBe('gate-01 opened\n'.repeat(2000));
    expect(fs.readFileSync(`${folder}/etc/hostname`, 'utf8')).toBe('gate-01\n');
    const again = await admin.call('planRestore', { body: { name: 'a file', ...body } });
    expect(again.existing).toMatchObject({ looked: 2, exist: 2 });
  });

  it('comes as a download', async () => {
    const { runId } = await admin.call('startRestore', {
      body: {
        reason: 'to be sent on',
        picks: [{ pointId, path: 'disks/system.raw/p2/var' }],
        destination: { to: 'download', format: 'zip' },
      },
    });
    const data = await download(runId);
    expect(data.includes(Buffer.from('var/log/gate.log'))).toBe(true);
    expect(await admin.ended(runId)).toMatchObject({ state: 'done' });
    const one = await admin.call('startRestore', {
      body: { reason: 'to be sent on', picks: [{ pointId, path: log }], destination: { to: 'download', format: 'file' } },
    });
    expect((await download(one.runId)).toString()).toBe('gate-01 opened\n'.repeat(2000));
    const disk = { picks: [{ pointId, path: log }], destination: { to: 'download' as const, format: 'qcow2' as const } };
    await expect(restore(disk)).rejects.toMatchObject({ details: { check: 'NOT_ONE_DISK' } });
  });

  it('is not found again once its file is gone, and nothing starts', async () => {
    const body = {
      picks: [{ pointId, path: 'disks/system.raw/p2/no such file' }],
      destination: { to: 'folder' as const, folder: `${h.folder}/x` },
    };
    await expect(restore(body)).rejects.toMatchObject({ code: 'NOT_FOUND' });
    expect(fs.existsSync(`${h.folder}/x`)).toBe(false);
  });
});

describe('a folder as a drive', () => {
  const drive = { to: 'attached' as const, as: 'drive' as const, hours: 1 };
  const reach = (at: { host: string; port: number; user: string; key: string; certificate: string }, path: string, method = 'GET') =>
    new Promise<{ status: number; body: string }>((resolve, reject) => {
      const request = https.request(
        { host: at.host, port: at.port, path, method, auth: `${at.user}:${at.key}`, ca: at.certificate },
        (res) => {
          let body = '';
          res.on('data', (part: Buffer) => (body += part.toString())).on('end', () => resolve({ status: res.statusCode!, body }));
        },
      );
      request.on('error', reject).end();
    });

  it('shows what is inside a disk to whoever attached it, until it is detached', async () => {
    const picks = [{ pointId, path: 'disks/system.raw/p2/var' }];
    await expect(restore({ picks: [{ pointId, path: log }], destination: drive })).rejects.toMatchObject({ code: 'INVALID' });
    const { runId } = await admin.call('startRestore', { body: { picks, reason: 'looking for a log', destination: drive } });
    const { at } = await vi.waitFor(
      async () => {
        const answer = await admin.call('attached', { id: runId });
        if (!answer.at) throw new Error('not there yet');
        return answer;
      },
      { timeout: 20_000 },
    );
    if (at?.as !== 'drive') throw new Error('no drive');
    expect((await admin.call('listAttached')).rows.find((r) => r.runId === runId)).toMatchObject({
      as: 'drive',
      path: 'disks/system.raw/p2/var',
    });
    expect(JSON.stringify(await admin.call('listAttached'))).not.toContain(at.key);
    expect(await reach(at, '/log/gate.log')).toMatchObject({ status: 200, body: 'gate-01 opened\n'.repeat(2000) });
    expect((await reach({ ...at, key: `${at.key}x` }, '/log/gate.log')).status).toBe(401);
    expect((await reach(at, '/log/gate.log', 'PUT')).status).toBe(403);
    await expect((await h.as('auditor')).call('attached', { id: runId })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await admin.call('stopRun', { id: runId });
    await admin.ended(runId);
    await expect(reach(at, '/log/gate.log')).rejects.toThrow();
  });
});

describe('files go back into a machine that runs', () => {
  const inside = (path: string) => service.files.read(service.platform.named('gate-01'), path).then(String);
  const write = (content: string) =>
    letGuestWrite(service.platform, 'gate-01', 'system', [{ path: '/var/log/gate.log', content: Buffer.from(content) }]);
  const back = { picks: [{ pointId: '', path: log }], destination: { to: 'original' as const } };
  beforeAll(() => {
    back.picks[0]!.pointId = pointId;
  });
  const plan = (more: object = {}) => admin.call('planRestore', { body: { name: 'back', ...back, ...more } });

  it('to where they were, by the helper inside, leaving what is there unless asked', async () => {
    await write('somebody emptied it\n');
    const planned = await plan();
    expect(planned.items).toMatchObject([{ goesTo: 'gate-01: /var/log/gate.log' }]);
    expect(planned.checks.map((c) => [c.code, c.level])).toEqual(
      expect.arrayContaining([
        ['WAY_IN', 'fine'],
        ['LEFT', 'fine'],
      ]),
    );
    expect(await restore(back)).toMatchObject({ state: 'done' });
    expect(await inside('/var/log/gate.log')).toBe('somebody emptied it\n');
    const run = await restore({ ...back, rule: 'replace' });
    expect(run).toMatchObject({ state: 'done', counts: { failed: 0 } });
    expect(await inside('/var/log/gate.log')).toBe('gate-01 opened\n'.repeat(2000));
    expect(soundDisks(service, 'gate-01')).toHaveLength(1);
    expect(await restore({ ...back, rule: 'beside' })).toMatchObject({ state: 'done' });
    const names = async () => (await service.files.list(service.platform.named('gate-01'), '/var/log'))!.map((i) => i.name);
    expect(await names()).toEqual(['gate.log']);
    await write('changed again\n');
    await restore({ ...back, rule: 'beside' });
    expect(await names()).toHaveLength(2);
  });

  it('to another machine, into a folder that is made', async () => {
    const other = (await admin.call('estate')).workloads.find((w) => w.name === 'gate-02')!.id;
    const run = await restore({
      picks: [{ pointId, path: 'disks/system.raw/p2/var' }],
      destination: { to: 'inside', workloadId: other, folder: '/srv/from gate-01' },
    });
    expect(run).toMatchObject({ state: 'done', counts: { failed: 0 } });
    expect(String(await service.files.read(service.platform.named('gate-02'), '/srv/from gate-01/var/log/gate.log'))).toBe(
      'gate-01 opened\n'.repeat(2000),
    );
  });

  it('and a trial writes nothing', async () => {
    await write('as it is\n');
    expect(await restore({ ...back, rule: 'replace', trial: true })).toMatchObject({ state: 'done' });
    expect(await inside('/var/log/gate.log')).toBe('as it is\n');
  });

  it('not where the machine is off, has no way in, or the platform does not allow it', async () => {
    const { platform } = service;
    const { id } = platform.named('gate-01');
    const stops = async (more: object = {}) => (await plan(more)).checks.filter((c) => c.level === 'stop').map((c) => c.code);
    platform.change(id, { running: false });
    expect(await stops()).toEqual(['MACHINE_OFF']);
    await expect(restore(back)).rejects.toMatchObject({ code: 'INVALID' });
    platform.change(id, { running: true, helper: false });
    expect(await stops()).toEqual(['NO_WAY_IN']);
    const account = { name: 'keeper', password: 'gate password' };
    platform.setInside(id, [account]);
    await admin.call('setInside', { body: { workloads: [workloadId], account } });
    expect(await stops()).toEqual([]);
    expect(await restore({ ...back, rule: 'replace' })).toMatchObject({ state: 'done' });
    const queued = await h.server.deps.db('task').where({ type: 'restore' }).select<{ work: unknown }[]>('work');
    expect(JSON.stringify(queued)).not.toContain(account.password);
    platform.setInside(id, [{ ...account, password: 'another' }]);
    expect(await stops()).toEqual(['REFUSED_INSIDE']);
    platform.change(id, { helper: true });
    service.signIn.setAccount({ ...keeper, rights: platformRights.filter((r) => r !== 'guest.files') });
    await admin.call('forgetInside', { id: workloadId });
    expect(await stops()).toEqual(['REFUSED_INSIDE']);
    service.signIn.setAccount(keeper);
  });

  it('not a disk or a machine, nor what was never mounted there', async () => {
    await expect(
      plan({
        picks: [
          { pointId, path: 'disks/system.raw' },
          { pointId, path: log },
        ],
      }),
    ).rejects.toMatchObject({ code: 'INVALID' });
    const efi = await plan({ picks: [{ pointId, path: 'disks/system.raw/p1/EFI' }] });
    expect(efi.checks.filter((c) => c.level === 'stop').map((c) => c.code)).toEqual(['NOT_MOUNTED']);
  });

  it('for a clerk to where they were only', async () => {
    const clerk = await h.as('clerk');
    await h.server.deps
      .db('person')
      .where({ name: 'clerk' })
      .update({ remit: JSON.stringify([workloadId]) });
    await expect(
      clerk.call('planRestore', { body: { name: 'x', ...back, destination: { to: 'inside', workloadId, folder: '/tmp' } } }),
    ).rejects.toMatchObject({
      code: 'NOT_ALLOWED',
    });
    expect((await clerk.call('planRestore', { body: { name: 'x', ...back } })).items).toHaveLength(1);
  });
});

describe('a disk or a volume is attached', () => {
  const attach = (path: string, hours = 8) =>
    admin.call('startRestore', {
      body: { reason: 'to look with own tools', picks: [{ pointId, path }], destination: { to: 'attached', hours } },
    });
  async function reached(runId: number) {
    const at = await vi.waitFor(
      async () => {
        const answer = await admin.call('attached', { id: runId });
        expect(answer.at).not.toBeNull();
        return answer.at!;
      },
      { timeout: 20_000, interval: 200 },
    );
    fs.writeFileSync(`${h.folder}/keys.psk`, `${at.user}:${at.key}\n`, { mode: 0o600 });
    return { at, uri: `nbds://${at.user}@${at.host}:${at.port}/${at.name}?tls-psk-file=${h.folder}/keys.psk` };
  }
  const copy = (uri: string) => promisify(execFile)('nbdcopy', [uri, `${h.folder}/copy.raw`]);

  it('as a device that anybody with its key reads with ordinary tools, listed until it is detached', async () => {
    const { runId } = await attach('disks/system.raw/p2');
    const { at, uri } = await reached(runId);
    await copy(uri);
    expect(execFileSync('debugfs', ['-R', 'cat /etc/hostname', `${h.folder}/copy.raw`], { encoding: 'utf8' })).toBe('gate-01\n');
    const [row] = (await admin.call('listAttached')).rows;
    expect(row).toMatchObject({ path: 'disks/system.raw/p2', person: 'administrator', mine: true, workload: { name: 'gate-01' } });
    await vi.waitFor(async () => expect((await admin.call('listAttached')).rows[0]!.read).toBeGreaterThan(0), {
      timeout: 20_000,
      interval: 200,
    });
    const auditor = await h.as('auditor');
    expect((await auditor.call('listAttached')).rows).toMatchObject([{ mine: false }]);
    await expect(auditor.call('attached', { id: runId })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    expect((await (await h.as('clerk')).call('listAttached')).rows.length).toBeLessThanOrEqual(1);
    const stored = JSON.stringify(await h.server.deps.db('task').where({ type: 'attach' }).select());
    expect(stored).not.toContain(at.key);
    await admin.call('stopRun', { id: runId });
    expect((await admin.ended(runId)).state).toBe('stopped');
    expect((await admin.call('listAttached')).rows).toEqual([]);
    await expect(copy(uri)).rejects.toThrow();
    await expect(admin.call('attached', { id: runId })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });

  it('while its point is pruned and other work goes on', async () => {
    const { runId } = await attach('disks/system.raw');
    const { uri } = await reached(runId);
    expect(
      await restore({ picks: [{ pointId, path: log }], destination: { to: 'folder', folder: `${h.folder}/beside`, keepPath: false } }),
    ).toMatchObject({ state: 'done' });
    await admin.ended((await admin.call('pruneTarget', { id: targetId, body: {} })).runId);
    await copy(uri);
    expect(fs.statSync(`${h.folder}/copy.raw`).size).toBe(128 << 20);
    await admin.call('stopRun', { id: runId });
    await admin.ended(runId);
  });

  it('not a file, nor several, nor by a clerk', async () => {
    for (const picks of [[log], ['disks/system.raw', 'disks/system.raw/p2'], ['']]) {
      const body = { name: 'x', picks: picks.map((path) => ({ pointId, path })), destination: { to: 'attached' as const } };
      await expect(admin.call('planRestore', { body })).rejects.toMatchObject({ code: 'INVALID' });
    }
    const body = { name: 'x', picks: [{ pointId, path: 'disks/system.raw' }], destination: { to: 'attached' as const } };
    await expect((await h.as('clerk')).call('planRestore', { body })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  });

  it('and not longer than was asked for', async () => {
    const { db, clock } = h.server.deps;
    const work = {
      type: 'attach' as const,
      pick: { pointId, path: 'disks/system.raw', to: '' },
      until: clock.now() + 3000,
      readFrom: null,
    };
    const runId = await db.transaction((trx) =>
      queueRun(trx, clock.now(), {
        kind: 'restore',
        startedBy: 'hand',
        name: 'for a moment',
        person: 'administrator',
        tasks: [{ workloadId, seriesNo: null, type: 'attach', work }],
      }),
    );
    h.server.deps.movers.workAppeared();
    expect((await admin.ended(runId)).state).toBe('done');
    expect((await admin.call('listAttached')).rows).toEqual([]);
  });
});
