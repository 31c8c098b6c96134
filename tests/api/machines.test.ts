import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BodyInput, PlatformTest } from '@lithodex/contract';
import { letGuestWrite, platformFine, platformRights, type PlatformService } from '@lithodex/standins';
import { Harness, policyFor, Refused, type Client } from '../support/harness';
import { buildLogger, keeper, soundDisks, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let body: BodyInput<'addPlatform'>;
let targetId: string;
let platformId: number;

const day = 86_400_000;
let now = Date.parse('2026-11-25T12:00:00Z');
const machines = async () => (await admin.call('estate')).workloads.filter((w) => w.kind === 'machine' && w.gone === null);
const idOf = async (name: string) => (await machines()).find((m) => m.name === name)!.id;
const newest = async (name: string) => (await admin.call('workload', { id: await idOf(name) })).pointList.at(-1)!;
const run = async (id: number) => admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
const outcomes = (r: Awaited<ReturnType<typeof run>>) =>
  Object.fromEntries(r.tasks.map((t) => [t.workload.name, t.cause?.code ?? t.state]));
const restore = async (more: Omit<BodyInput<'startRestore'>, 'reason'>) =>
  admin.ended((await admin.call('startRestore', { body: { reason: 'a test of the return', ...more } })).runId);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0, clock: { now: () => now } });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  ({ service, body } = await startPlatform(`${h.folder}/platform`));
  await buildLogger(service, 'gate-01', { tags: ['gates'] });
  await buildLogger(service, 'gate-02', { tags: ['gates'], host: 'mole-2' });
  await buildLogger(service, 'gate-test', { tags: ['gates', 'test'] });
  await buildLogger(service, 'office-01', {
    folder: '/Harbour/Office',
    disks: [
      { label: 'system', size: 128 << 20, storage: 'fast' },
      { label: 'data', size: 64 << 20, storage: 'fast' },
    ],
  });
}, 60_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

describe('a platform', () => {
  it('is tested before it is saved; what is missing is named with what it is for', async () => {
    const wrong = { ...body, opener: { by: 'password' as const, account: 'keeper', password: 'wrong' } };
    expect((await admin.call('testPlatform', { body: { body: wrong } })).message).toContain('refused the sign-in');
    await expect(admin.call('addPlatform', { body: wrong })).rejects.toMatchObject({ code: 'CONNECTION_FAULTY' });
    service.signIn.setAccount({ ...keeper, passwordEnds: Date.now() + 10 * day, rights: platformRights.filter((r) => r !== 'disk.write') });
    const test: PlatformTest = await admin.call('testPlatform', { body: { body } });
    expect(test).toMatchObject({ ok: true, machines: 4, message: 'The account may not: write disks.' });
    expect(test.needs.filter((n) => n.missing)).toEqual([{ right: 'Write disks', neededFor: 'to restore', missing: true }]);
    service.signIn.setAccount(keeper);
    ({ id: platformId } = await admin.call('addPlatform', { body }));
    await expect(admin.call('addPlatform', { body })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
  });

  it('shows its machines with where they are, and never what opens it', async () => {
    const found = await machines();
    expect(found.map((m) => [m.name, m.machine!.host, m.machine!.folder, m.source.location, m.coverage])).toEqual([
      ['gate-01', 'mole-1', '/Harbour/Gates', 'Harbour office', 'none'],
      ['gate-02', 'mole-2', '/Harbour/Gates', 'Harbour office', 'none'],
      ['gate-test', 'mole-1', '/Harbour/Gates', 'Harbour office', 'none'],
      ['office-01', 'mole-1', '/Harbour/Office', 'Harbour office', 'none'],
    ]);
    expect(found[0]!.tags).toEqual(['gates']);
    const auditor = await h.as('auditor');
    const answers = [await auditor.call('listPlatforms'), await auditor.call('audit', { query: { limit: 50 } })];
    expect(JSON.stringify(answers)).not.toContain(keeper.password);
    expect(answers[0]).toMatchObject({
      rows: [{ name: 'Harbour platform', account: 'keeper', by: 'password', machines: 4, trouble: null }],
    });
    const stored = await h.server.deps.db('source').where({ id: platformId }).first<{ secret: Buffer; address: unknown }>();
    expect(stored.secret.toString('latin1') + JSON.stringify(stored.address)).not.toContain(keeper.password);
  });

  it('is left alone by who may not change it', async () => {
    for (const role of ['operator', 'auditor', 'clerk'] as const) {
      const who = await h.as(role);
      await expect(who.call('addPlatform', { body: { ...body, name: 'other' } })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
      await expect(who.call('changePlatform', { id: platformId, body })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    }
    await expect((await h.as('auditor')).call('readPlatform', { id: platformId })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    expect(await (await h.as('operator')).call('readPlatform', { id: platformId })).toEqual({ machines: 4, fresh: 0, gone: 0, moved: 0 });
  });

  it('is no folder of the mover: it can not be looked into or changed as one', async () => {
    await expect(admin.call('discover', { id: platformId, query: { path: 'etc' } })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    const folder = { name: 'as a folder', folder: h.folder };
    await expect(admin.call('changeSource', { id: platformId, body: folder })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    await expect((await h.as('clerk')).call('platformPlaces', { id: platformId })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  });

  it('can be disconnected while nothing of it is protected, and connected again', async () => {
    await admin.call('removeSource', { id: platformId });
    expect(await machines()).toEqual([]);
    ({ id: platformId } = await admin.call('addPlatform', { body }));
    expect(await machines()).toHaveLength(4);
  });

  it('tells of tags that changed there at once', async () => {
    const { platform } = service;
    platform.change(platform.named('office-01').id, { tags: ['office'] });
    await admin.call('readPlatform', { id: platformId });
    expect((await machines()).find((m) => m.name === 'office-01')!.tags).toEqual(['office']);
  });

  it('is found again after it changed: moved, renamed, gone and back', async () => {
    const { platform } = service;
    platform.change(platform.named('gate-02').id, { host: 'mole-1', tags: ['gates', 'west'] });
    platform.change(platform.named('gate-test').id, { name: 'gate-trial' });
    expect(await admin.call('readPlatform', { id: platformId })).toMatchObject({ moved: 1, gone: 0 });
    const { rows } = await admin.call('estateChanges');
    expect(rows.slice(0, 2).map((r) => [r.workload.name, r.what, r.detail])).toEqual([
      ['gate-trial', 'renamed', 'it was gate-test'],
      ['gate-02', 'moved', 'from host mole-2 to mole-1'],
    ]);
    await admin.call('tagWorkload', { id: await idOf('gate-02'), body: { tags: ['mine'] } });
    await admin.call('readPlatform', { id: platformId });
    expect((await machines()).find((m) => m.name === 'gate-02')!.tags.sort()).toEqual(['gates', 'mine', 'west']);
    platform.change(platform.named('gate-trial').id, { name: 'gate-test' });
    await admin.call('readPlatform', { id: platformId });
  });
});

describe('machines by rule', () => {
  let policy: number;
  const rule = { rule: 'tag gates and kind machine', except: 'tag test', schedule: { every: 'day' as const, at: '22:00' } };

  it('are seen before, tried, protected, and one that lands later is in the next run', async () => {
    const draft = policyFor([], targetId, { name: 'Gates', ...rule });
    const c = await admin.call('consequences', { body: { id: null, body: draft } });
    expect(c.matches.map((m) => m.name)).toEqual(['gate-01', 'gate-02']);
    expect(c.warnings.map((w) => w.code)).not.toContain('HOLDS_DATABASE');
    service.platform.change(service.platform.named('gate-02').id, { services: ['cron', 'mariadbd', 'dovecot'] });
    await admin.call('readPlatform', { id: platformId });
    expect((await admin.call('serversInMachines')).rows).toMatchObject([
      { workload: { name: 'gate-02' }, family: 'mariadb', by: 'mariadbd', location: 'Harbour office' },
    ]);
    const held = (await admin.call('consequences', { body: { id: null, body: draft } })).warnings.filter((w) => w.code.startsWith('HOLDS'));
    expect(held).toMatchObject([
      { code: 'HOLDS_DATABASE', text: expect.stringContaining('gate-02 (mariadbd) holds a database') as string },
      { code: 'HOLDS_MAIL', text: expect.stringContaining('gate-02 (dovecot) holds a mail store') as string },
    ]);
    policy = (await admin.call('addPolicy', { body: draft })).id;
    const trial = await admin.ended((await admin.call('runPolicy', { id: policy, body: { trial: true } })).runId);
    expect(outcomes(trial)).toEqual({ 'gate-01': 'done', 'gate-02': 'done' });
    expect(outcomes(await run(policy))).toEqual({ 'gate-01': 'done', 'gate-02': 'done' });
    const point = await newest('gate-01');
    expect(point.machine).toMatchObject({ level: 'application', host: 'mole-1', disks: [{ label: 'system', file: 'disks/system.raw' }] });
    await buildLogger(service, 'gate-03', { tags: ['gates'] });
    now += day;
    await h.round();
    const [last] = (await admin.call('listRuns', { query: { kinds: 'backup', limit: 1 } })).rows;
    expect(last!.trigger).toBe('schedule');
    expect(outcomes(await admin.ended(last!.id))).toEqual({ 'gate-01': 'done', 'gate-02': 'done', 'gate-03': 'done' });
    await expect(admin.call('compare', { id: point.id, query: { path: 'disks', folder: 'yes' } })).rejects.toMatchObject({
      code: 'NOT_NOW',
    });
    await expect(admin.call('removeSource', { id: platformId })).rejects.toMatchObject({ code: 'IN_USE' });
    const again = await newest('gate-01');
    expect(again.read).toBe(0);
    expect(again.bytes).toBeGreaterThan(1 << 20);
    expect(again.bytes).toBeLessThan(64 << 20);
  });

  it('read only what changed, and come back bit for bit at the other cluster, several at once', async () => {
    await letGuestWrite(service.platform, 'gate-01', 'system', [
      { path: '/var/log/gate.log', content: Buffer.from('closed\n'.repeat(9000)) },
    ]);
    const result = await run(policy);
    expect(result.counts.read).toBeGreaterThan(0);
    expect(result.counts.read).toBeLessThan(4 << 20);
    const [one, two] = [await newest('gate-01'), await newest('gate-02')];
    const place = {
      to: 'platform' as const,
      platformId,
      host: 'rock-1',
      folder: '/Restored',
      storage: 'cellar',
      networks: ['rock'],
      suffix: '-back',
    };
    const picks = [one, two].map((p) => ({ pointId: p.id, path: '' }));
    const wish = { picks, destination: { ...place, exceptions: [{ pointId: two.id, name: 'gate-two' }] }, start: true };
    const plan = await admin.call('planRestore', { body: { ...wish, reason: '' } });
    expect(plan.items.map((i) => i.goesTo)).toEqual(['Restored/gate-01-back on rock-1', 'Restored/gate-two on rock-1']);
    expect(plan.checks.filter((c) => c.level !== 'fine').map((c) => c.code)).toEqual(['LEAVES_PLACE', 'LEAVES_PLACE']);
    for (const [name, fault] of [
      ['gate%two', 'holds %'],
      ['g'.repeat(81), 'longer than 80 characters'],
    ] as const) {
      const bad = { ...wish, reason: '', destination: { ...place, exceptions: [{ pointId: two.id, name }] } };
      const stops = (await admin.call('planRestore', { body: bad })).checks.filter((x) => x.level === 'stop');
      expect(stops).toMatchObject([{ code: 'NAME_FORBIDDEN', text: expect.stringContaining(fault) as string }]);
    }
    const done = await restore(wish);
    expect(done.tasks.map((t) => [t.workload.name, t.state])).toEqual([
      ['gate-01', 'done'],
      ['gate-02', 'done'],
    ]);
    expect(soundDisks(service, 'gate-01-back')).toEqual(soundDisks(service, 'gate-01'));
    expect(soundDisks(service, 'gate-two')).toEqual(soundDisks(service, 'gate-02'));
    expect(service.platform.named('gate-two')).toMatchObject({ host: 'rock-1', running: true, networks: ['rock'] });
    const { rows } = await admin.call('runLog', { id: done.id, query: { task: done.tasks[1]!.id } });
    expect(rows.map((r) => r.code)).toContain('MACHINE_MADE');
  });

  it('go back to their place by writing what differs, counted by the platform', async () => {
    const point = await newest('gate-01');
    const machine = service.platform.named('gate-01');
    const before = soundDisks(service, 'gate-01');
    await letGuestWrite(service.platform, 'gate-01', 'system', [{ path: '/etc/hostname', content: Buffer.from('broken\n') }]);
    service.platform.change(machine.id, { host: 'mole-2' });
    const disk = service.platform.diskOf(machine.id, machine.disks[0]!.id);
    const written = disk.written;
    const wish = { picks: [{ pointId: point.id, path: '' }], destination: { to: 'original' as const }, start: true };
    const plan = await admin.call('planRestore', { body: { ...wish, reason: '' } });
    expect(plan.checks.map((c) => c.code)).toEqual(expect.arrayContaining(['MACHINE_RUNNING', 'MOVED']));
    const done = await restore(wish);
    expect(done.state).toBe('done');
    expect(soundDisks(service, 'gate-01')).toEqual(before);
    expect(disk.written - written).toBeGreaterThan(0);
    expect(disk.written - written).toBeLessThan(2 << 20);
    expect(service.platform.named('gate-01')).toMatchObject({ running: true, host: 'mole-2', note: '' });
  });

  it('are downloaded as raw and QCOW2 disks and as a package that other programs read', async () => {
    const point = await newest('gate-01');
    const fetchAs = async (format: 'file' | 'qcow2' | 'ova', path: string) => {
      const { runId } = await admin.call('startRestore', {
        body: { name: 'gate', picks: [{ pointId: point.id, path }], destination: { to: 'download', format }, reason: 'a copy to look at' },
      });
      const response = await admin.fetch('download', { id: runId });
      const file = `${h.folder}/download.${format}`;
      fs.writeFileSync(file, Buffer.from(await response.arrayBuffer()));
      expect((await admin.ended(runId)).state).toBe('done');
      return file;
    };
    const raw = await fetchAs('file', 'disks/system.raw');
    const qcow2 = await fetchAs('qcow2', 'disks/system.raw');
    execFileSync('qemu-img', ['check', qcow2], { stdio: 'pipe' });
    const compare = (a: string, b: string) => execFileSync('qemu-img', ['compare', '-f', 'qcow2', '-F', 'raw', a, b], { encoding: 'utf8' });
    expect(compare(qcow2, raw)).toContain('identical');
    const ova = await fetchAs('ova', '');
    execFileSync('tar', ['-xf', ova, '-C', h.folder]);
    expect(fs.readFileSync(`${h.folder}/gate-01.ovf`, 'utf8')).toContain('<Name>gate-01</Name>');
    expect(compare(`${h.folder}/gate-01-system.qcow2`, raw)).toContain('identical');
    const sums = fs.readFileSync(`${h.folder}/gate-01.mf`, 'utf8').replace(/^SHA256\((.*)\)= (\w+)$/gm, '$2  $1');
    execFileSync('sha256sum', ['-c'], { cwd: h.folder, input: sums, stdio: ['pipe', 'pipe', 'pipe'] });
    for (const [format, path] of [
      ['ova', 'disks/system.raw'],
      ['qcow2', ''],
    ] as const) {
      const wrong = admin.call('startRestore', {
        body: { picks: [{ pointId: point.id, path }], destination: { to: 'download', format }, reason: 'what can not be' },
      });
      await expect(wrong).rejects.toThrow(Refused);
    }
  });

  it('come back one disk at a time, and what can not be put back alone is refused', async () => {
    const { runId } = await admin.call('protectOnce', { id: await idOf('office-01'), body: { targetId } });
    expect((await admin.ended(runId)).state).toBe('done');
    const point = await newest('office-01');
    const [system, data] = soundDisks(service, 'office-01');
    for (const disk of ['system', 'data'])
      await letGuestWrite(service.platform, 'office-01', disk, [{ path: '/changed', content: Buffer.from('x') }]);
    const one = { picks: [{ pointId: point.id, path: 'disks/data.raw' }], destination: { to: 'original' as const } };
    expect((await restore(one)).state).toBe('done');
    const after = soundDisks(service, 'office-01');
    expect([after[0] === system, after[1] === data]).toEqual([false, true]);
    const settings = restore({ ...one, picks: [{ pointId: point.id, path: 'machine.json' }] });
    await expect(settings).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('are made anew where what has their place is removed first, which is refused while it runs, and for a clerk', async () => {
    const { platform } = service;
    const point = await newest('gate-02');
    const body = { picks: [{ pointId: point.id, path: '' }], destination: { to: 'original' as const, removeFirst: true } };
    const before = platform.named('gate-02');
    await expect(restore(body)).rejects.toMatchObject({ details: { check: 'MACHINE_RUNNING' } });
    const disk = { ...body, picks: [{ pointId: point.id, path: 'disks/system.raw' }] };
    await expect(restore(disk)).rejects.toMatchObject({ code: 'INVALID' });
    platform.change(before.id, { running: false });
    const clerk = await h.as('clerk');
    await expect(clerk.call('planRestore', { body: { name: 'x', ...body } })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    const plan = await admin.call('planRestore', { body: { name: 'x', ...body } });
    expect(plan.checks.find((c) => c.code === 'REMOVED_FIRST')?.text).toContain('what was written since is lost');
    expect(plan.rescue).toMatchObject({ workload: 'gate-02' });
    const id = await idOf('gate-02');
    expect(await restore({ ...body, rescue: false })).toMatchObject({ state: 'done' });
    const after = platform.named('gate-02');
    expect(after.id).not.toBe(before.id);
    expect(soundDisks(service, 'gate-02')).toHaveLength(after.disks.length);
    await admin.call('readPlatform', { id: platformId });
    expect(await idOf('gate-02')).toBe(id);
    service.signIn.setAccount({ ...keeper, rights: platformRights.filter((r) => r !== 'machine.create') });
    expect(await restore({ ...body, rescue: false })).toMatchObject({ state: 'failed', tasks: [{ cause: { code: 'RIGHT_MISSING' } }] });
    expect(platform.named('gate-02').id).toBe(after.id);
    service.signIn.setAccount(keeper);
    platform.change(after.id, { running: true });
  });

  it('say why they failed and what to do, each cause by its name', async () => {
    const { platform } = service;
    platform.switches = { ...platformFine, snapshotFails: ['gate-01'], quiesceFails: ['gate-02'] };
    platform.change(platform.named('gate-03').id, { running: false });
    platform.remove(platform.named('gate-03').id);
    const first = await run(policy);
    expect(outcomes(first)).toEqual({ 'gate-01': 'SNAPSHOT_FAILED', 'gate-02': 'remarks', 'gate-01-back': 'done', 'gate-two': 'done' });
    expect(first.tasks.find((t) => t.workload.name === 'gate-01')!.cause!.remedy).toContain('snapshots of the machine');
    platform.switches = platformFine;
    service.signIn.setAccount({ ...keeper, passwordEnds: 1 });
    h.server.deps.movers.workAppeared();
    const failed = await run(policy);
    const all = Object.fromEntries(Object.keys(outcomes(first)).map((name) => [name, 'PASSWORD_EXPIRED']));
    expect(outcomes(failed)).toEqual(all);
    expect((await admin.call('listPlatforms')).rows[0]!.trouble).toContain('expired');
    const { matters } = await admin.call('watch');
    const [matter, connection] = ['failed-PASSWORD_EXPIRED', `platform-${platformId}`].map((id) => matters.find((m) => m.id === id)!);
    expect(matter).toMatchObject({ title: '4 workloads were not protected', action: { link: `/estate/platforms/${platformId}` } });
    expect(connection).toMatchObject({ level: 'fault', action: { link: `/estate/platforms/${platformId}` } });
    expect(matters.find((m) => m.id === 'gone')!.text).toContain('gate-03');
    const { workloads: back } = await admin.call('estate', { query: { show: 'points' } });
    expect(back.every((w) => w.points > 0)).toBe(true);
    expect(back.find((w) => w.name === 'gate-03')).toMatchObject({ gone: expect.any(Number) as number });
    service.signIn.setAccount(keeper);
    await admin.call('changePlatform', { id: platformId, body: { ...body, opener: null } });
    expect(outcomes(await run(policy))).toMatchObject({ 'gate-01': 'done', 'gate-02': 'done' });
  });
});
