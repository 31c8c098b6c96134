import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import { cloudRights, letGuestWrite, letInstanceWrite, type CloudService, type PlatformService } from '@lithodex/standins';
import { skyClient, skyfjord, startCloud, volumeSums } from '../support/cloud';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, soundDisks, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let hosts: PlatformService;
let sky: CloudService;
let body: BodyInput<'addPlatform'>;
let cloudId: number;
let policyId: number;

const MiB = 1 << 20;
let ahead = 0;
const estate = async () => (await admin.call('estate')).workloads.filter((w) => w.machine && w.gone === null);
const idOf = async (name: string) => (await estate()).find((w) => w.name === name)!.id;
const newest = async (name: string) => (await admin.call('workload', { id: await idOf(name) })).pointList.at(-1)!;
const protect = async () => admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);

type Restore = BodyInput<'startRestore'>;
type Cloud = Extract<Restore['destination'], { to: 'cloud' }>;
const toCloud = async (name: string, more: Partial<Cloud> = {}, rest: Partial<Restore> = {}): Promise<Restore> => ({
  picks: [{ pointId: (await newest(name)).id, path: '' }],
  destination: { to: 'cloud', platformId: cloudId, region: 'fjord-north', network: 'shore', class: 'usual', ...more },
  leavesPlace: true,
  reason: 'too little room at home',
  ...rest,
});
const restore = async (asked: Restore) => admin.ended((await admin.call('startRestore', { body: asked })).runId);
const codes = (checks: readonly { code: string; level: string }[]) => checks.map((c) => `${c.level} ${c.code}`);
const log = async (runId: number) => (await admin.call('runLog', { id: runId, query: { limit: 100 } })).rows;
/** What lies in the region and no instance has. */
const lying = () => sky.cloud.volumes.all().filter((v) => v.instance === null);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 4000, clock: { now: () => Date.now() + ahead } });
  admin = await h.as('administrator');
  const { targetId } = await h.connect(admin);
  const platform = await startPlatform(`${h.folder}/platform`);
  hosts = platform.service;
  ({ service: sky, body } = await startCloud(`${h.folder}/cloud`));
  const disks = [
    { label: 'system', size: 128 * MiB, storage: 'fast' },
    { label: 'data', size: 64 * MiB, storage: 'fast' },
  ];
  await buildLogger(hosts, 'gate-01', { tags: ['gates'], disks });
  await admin.call('addPlatform', { body: platform.body });
  policyId = (await admin.call('addPolicy', { body: policyFor([], targetId, { name: 'Gates', rule: 'tag gates' }) })).id;
  expect((await protect()).state).toBe('done');
}, 120_000);
afterAll(async () => {
  await h.stop();
  await hosts.stop();
  await sky.stop();
});

describe('a cloud', () => {
  it('is tested before it is saved; what is missing is named with what it is for', async () => {
    const wrong = { ...body, opener: { by: 'password' as const, account: skyClient.id, password: 'wrong' } };
    expect(await admin.call('testPlatform', { body: { body: wrong } })).toMatchObject({ ok: false });
    await expect(admin.call('addPlatform', { body: wrong })).rejects.toMatchObject({ code: 'CONNECTION_FAULTY' });
    sky.cloud.describe({ ...skyfjord, clients: [{ ...skyClient, rights: cloudRights.filter((r) => r !== 'import') }] });
    const { needs } = await admin.call('testPlatform', { body: { body } });
    expect(needs.filter((n) => n.missing)).toEqual([
      { right: 'Import images', neededFor: 'to make volumes of disks that were sent', missing: true },
    ]);
    sky.cloud.describe(skyfjord);
    ({ id: cloudId } = await admin.call('addPlatform', { body }));
    const { rows } = await admin.call('listPlatforms');
    expect(rows.find((p) => p.id === cloudId)).toMatchObject({ name: 'Skyfjord', family: 'cloud', account: 'harbour', machines: 0 });
    expect(JSON.stringify(rows)).not.toContain(skyClient.secret);
    for (const role of ['operator', 'auditor'] as const)
      await expect((await h.as(role)).call('addPlatform', { body: { ...body, name: 'other' } })).rejects.toMatchObject({
        code: 'NOT_ALLOWED',
      });
  });

  it('does not become hosts, and hosts no cloud', async () => {
    await expect(admin.call('changePlatform', { id: cloudId, body: { ...body, family: 'hosts' } })).rejects.toMatchObject({
      code: 'INVALID',
    });
  });

  it('says what can be had there, and what it costs', async () => {
    const { cloud } = await admin.call('platformPlaces', { id: cloudId });
    expect(cloud?.regions.map((r) => [r.name, r.place])).toEqual([
      ['fjord-north', 'North fjord'],
      ['fjord-south', 'Harbour office'],
    ]);
    expect(cloud?.sizes).toHaveLength(3);
  });
});

describe('a machine into a cloud', () => {
  it('leaves its place only when somebody agrees to that', async () => {
    const asked = await toCloud('gate-01', {}, { leavesPlace: false });
    const { checks } = await admin.call('planRestore', { body: asked });
    expect(checks.find((c) => c.code === 'LEAVES_PLACE')).toMatchObject({
      level: 'stop',
      text: 'gate-01 leaves Harbour office for North fjord. Agree to that first.',
    });
    await expect(admin.call('startRestore', { body: asked })).rejects.toMatchObject({ code: 'INVALID' });
    const home = { ...asked, destination: { ...(asked.destination as Cloud), region: 'fjord-south', network: 'beach' } };
    expect((await admin.call('planRestore', { body: home })).checks.map((c) => c.code)).not.toContain('LEAVES_PLACE');
    sky.cloud.describe({ ...skyfjord, regions: skyfjord.regions.map((r) => ({ ...r, place: '' })) });
    expect(codes((await admin.call('planRestore', { body: asked })).checks)).toContain('stop PLACE_UNKNOWN');
    sky.cloud.describe(skyfjord);
    expect(sky.cloud.all()).toEqual([]);
  });

  it('gets the cheapest size that fits, no public address, and a price before it begins', async () => {
    const plan = await admin.call('planRestore', { body: await toCloud('gate-01') });
    expect(plan.items[0]!.goesTo).toBe('gate-01 in fjord-north, m2');
    // 2 × 0.04 an hour for a month of 730.5 hours, and 201 MB of disks
    expect(plan.checks.find((c) => c.code === 'PRICE_THERE')!.text).toBe(
      'It costs EUR 29.23 a month there while it runs: EUR 29.22 for m2, EUR 0.0101 for disks.',
    );
    expect(codes(plan.checks)).toEqual(
      expect.arrayContaining(['look LEAVES_PLACE', 'fine NO_PUBLIC_ADDRESS', 'fine PRICE_THERE', 'fine TAGS']),
    );
  });

  it('is refused with reasons where it can not be', async () => {
    const plan = async (more: Partial<Cloud>, pointId?: string) => {
      const asked = await toCloud('gate-01', more);
      return codes((await admin.call('planRestore', { body: asked, ...(pointId && {}) })).checks);
    };
    expect(await plan({ network: 'nowhere' })).toContain('stop NO_NETWORK');
    expect(await plan({ class: 'gone' })).toContain('stop NO_STORAGE');
    expect(await plan({ size: 's1' })).toContain('look SMALLER');
    expect(await plan({ size: 'none' })).toContain('stop NO_SIZE');
    expect(await plan({ size: 'none', ahead: true })).not.toContain('stop NO_SIZE');
    expect(await plan({ region: 'fjord-south', network: 'beach', size: 'm4' })).toContain('stop OVER_QUOTA');
    const { id: pointId } = await newest('gate-01');
    expect(await plan({ exceptions: [{ pointId, leaveOut: ['system', 'data'] }] })).toContain('stop NO_DISKS');
    await expect(admin.call('planRestore', { body: await toCloud('gate-01', { region: 'fjord-west' }) })).rejects.toMatchObject({
      code: 'INVALID',
    });
    const part = { ...(await toCloud('gate-01')), picks: [{ pointId, path: 'disks/data.raw' }] };
    await expect(admin.call('planRestore', { body: part })).rejects.toMatchObject({ code: 'INVALID' });
    const there = { to: 'platform' as const, platformId: cloudId, host: 'fjord-north', folder: '/', storage: 'usual' };
    await expect(admin.call('planRestore', { body: { ...part, destination: there } })).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('writes nothing when it is only tried', async () => {
    const run = await restore(await toCloud('gate-01', {}, { trial: true }));
    expect(run.state).toBe('done');
    expect([sky.cloud.all(), lying()]).toEqual([[], []]);
  });

  it('stands there bit for bit, in groups made on the spot, and is protected by its tags', async () => {
    const run = await restore(await toCloud('gate-01', { groups: ['inner', 'gates'], tags: ['moved'], suffix: '-sky' }, { start: true }));
    expect([run.state, run.cause]).toEqual(['done', null]);
    const made = sky.cloud.named('gate-01-sky');
    expect(made).toMatchObject({ region: 'fjord-north', size: 'm2', address: null, groups: ['inner', 'gates'], running: true });
    expect(made.tags).toEqual(['gates', 'moved']);
    expect(volumeSums(sky, 'gate-01-sky')).toEqual(soundDisks(hosts, 'gate-01'));
    expect(sky.cloud.imports.names()).toEqual([]);
    await admin.call('readPlatform', { id: cloudId });
    const there = (await estate()).find((w) => w.name === 'gate-01-sky')!;
    expect(there.machine).toMatchObject({ location: 'North fjord', cloud: { size: 'm2', address: null } });
    expect(there.coverage).not.toBe('none');
  });

  it('gets an address that is reached from everywhere only where that is asked for', async () => {
    const plan = await admin.call('planRestore', { body: await toCloud('gate-01', { publicAddress: true, suffix: '-open' }) });
    expect(codes(plan.checks)).toContain('look PUBLIC_ADDRESS');
  });
});

describe('disks that are sent ahead', () => {
  const staged = async (work: () => Promise<unknown>) => {
    const before = sky.cloud.imports.staged;
    await work();
    return sky.cloud.imports.staged - before;
  };

  it('are not sent again when the machine is made: only what changed since is', async () => {
    const first = await staged(async () => expect((await restore(await toCloud('gate-01', { ahead: true }))).state).toBe('done'));
    expect(
      lying()
        .map((v) => v.label)
        .sort(),
    ).toEqual(['data', 'system']);
    await letGuestWrite(hosts.platform, 'gate-01', 'data', [{ path: '/var/late', content: Buffer.from('late\n'.repeat(100)) }]);
    expect((await protect()).state).toBe('done');
    const second = await staged(async () => expect((await restore(await toCloud('gate-01', { suffix: '-late' }))).state).toBe('done'));
    expect(second).toBeGreaterThan(0);
    // the front of an image is as long as that of a whole one: what holds data is what is less
    expect(second).toBeLessThan(first / 2);
    expect(volumeSums(sky, 'gate-01-late')).toEqual(soundDisks(hosts, 'gate-01'));
    expect(lying()).toEqual([]);
  });
});

describe('a machine that worked in a cloud', () => {
  it('comes home over the one that stayed: bit for bit, and only what changed is moved', async () => {
    const { cloud } = sky;
    cloud.change(cloud.named('gate-01-late').id, { running: false });
    cloud.remove(cloud.named('gate-01-late').id);
    expect((await protect()).state).toBe('done');
    const whole = (await newest('gate-01-sky')).bytes;
    await letInstanceWrite(cloud, 'gate-01-sky', 'data', [
      { path: '/var/moved', content: Buffer.from('worked in the sky\n'.repeat(2000)) },
    ]);
    expect((await protect()).state).toBe('done');
    const { read, kind } = await newest('gate-01-sky');
    expect(kind).toBe('incremental');
    expect(read).toBeLessThan(whole / 4);

    const workloadId = await idOf('gate-01');
    const pointId = (await newest('gate-01-sky')).id;
    const asked: Restore = { picks: [{ pointId, path: '' }], destination: { to: 'over', workloadId }, rescue: false, reason: 'home again' };
    const plan = await admin.call('planRestore', { body: asked });
    expect(codes(plan.checks)).toEqual(expect.arrayContaining(['look WRITTEN_OVER', 'fine ONLY_CHANGED']));
    const disks = hosts.platform.named('gate-01').disks.map((d) => hosts.platform.diskOf(hosts.platform.named('gate-01').id, d.id));
    const before = disks.map((d) => [d.read, d.written] as const);
    const settings = hosts.platform.named('gate-01');
    const run = await restore(asked);
    expect([run.state, run.cause]).toEqual(['done', null]);
    const moved = disks.map((d, i) => [d.read - before[i]![0], d.written - before[i]![1]] as const);
    expect(volumeSums(sky, 'gate-01-sky')).toEqual(soundDisks(hosts, 'gate-01'));
    const [readThere, written] = [0, 1].map((i) => moved.reduce((sum, m) => sum + m[i]!, 0)) as [number, number];
    expect(written).toBeGreaterThan(0);
    expect(written).toBeLessThan(2 * MiB);
    // each is read before it is written and after; nothing else is
    expect(readThere).toBeLessThan(4 * MiB);
    const { processors, memory, tags, networks } = hosts.platform.named('gate-01');
    expect({ processors, memory, tags, networks }).toMatchObject({
      processors: settings.processors,
      memory: settings.memory,
      tags: settings.tags,
      networks: settings.networks,
    });
  });

  it('goes over nothing that is in a cloud, of another size, or gone', async () => {
    const pointId = (await newest('gate-01')).id;
    const over = (workloadId: number) => ({
      picks: [{ pointId, path: '' }],
      destination: { to: 'over' as const, workloadId },
      rescue: false,
    });
    await expect(admin.call('planRestore', { body: over(await idOf('gate-01-sky')) })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(admin.call('planRestore', { body: over(999_999) })).rejects.toMatchObject({ code: 'INVALID' });
    await buildLogger(hosts, 'gate-small', { disks: [{ label: 'system', size: 64 * MiB, storage: 'fast' }] });
    await admin.call('readPlatform', { id: (await admin.call('listPlatforms')).rows.find((p) => p.family === 'hosts')!.id });
    const { checks } = await admin.call('planRestore', { body: over(await idOf('gate-small')) });
    expect(codes(checks)).toEqual(expect.arrayContaining(['stop DISK_DIFFERS', 'fine READ_WHOLE']));
  });

  it('is not written over there', async () => {
    const pointId = (await newest('gate-01-sky')).id;
    const body = { picks: [{ pointId, path: '' }], destination: { to: 'original' as const } };
    await expect(admin.call('planRestore', { body })).rejects.toMatchObject({ code: 'INVALID' });
  });
});

describe('what goes wrong on the way', () => {
  it('leaves nothing half-made when an import fails or writes something else', async () => {
    sky.cloud.switches = { ...sky.cloud.switches, importFails: true };
    expect((await restore(await toCloud('gate-01', { suffix: '-x' }))).cause?.code).toBe('IMPORT_FAILED');
    sky.cloud.switches = { ...sky.cloud.switches, importFails: false, importWrong: true };
    expect((await restore(await toCloud('gate-01', { suffix: '-x' }))).cause?.code).toBe('NOT_AS_STORED');
    sky.cloud.switches = { ...sky.cloud.switches, importWrong: false };
    expect([lying(), sky.cloud.imports.names()]).toEqual([[], []]);
    expect(sky.cloud.all().map((i) => i.name)).toEqual(['gate-01-sky']);
  });

  it('goes on after the mover was killed while disks were imported, and leaves one machine', async () => {
    // what came home is newer than the newest point
    expect((await protect()).state).toBe('done');
    sky.cloud.switches = { ...sky.cloud.switches, importRate: MiB / 2 };
    const { runId } = await admin.call('startRestore', { body: await toCloud('gate-01', { suffix: '-killed' }) });
    await expect.poll(() => lying().length, { timeout: 30_000 }).toBeGreaterThan(0);
    await expect(admin.call('startRestore', { body: await toCloud('gate-01', { suffix: '-too' }) })).rejects.toMatchObject({
      code: 'INVALID',
    });
    await h.killMover('mover-1');
    sky.cloud.switches = { ...sky.cloud.switches, importRate: null };
    h.startMover('mover-1');
    const run = await admin.ended(runId);
    expect([run.state, run.cause]).toEqual(['done', null]);
    expect(volumeSums(sky, 'gate-01-killed')).toEqual(soundDisks(hosts, 'gate-01'));
    expect([lying(), sky.cloud.imports.names()]).toEqual([[], []]);
    expect((await log(runId)).some((r) => r.code === 'MACHINE_MADE')).toBe(true);
  });
});

describe('a restore into a cloud that is repeated', () => {
  it('sends disks ahead, and brings a machine in place of the one of the time before', async () => {
    const workloads = [await idOf('gate-01')];
    const place = { platformId: cloudId, region: 'fjord-north', network: 'island', class: 'usual', to: 'cloud' as const, suffix: '-proof' };
    const repeat = async (name: string, more: object) =>
      (
        await admin.call('addStanding', {
          body: { name, workloads, schedule: { every: 'day', at: '04:00' }, destination: { ...place, ...more }, reason: 'a proof' },
        })
      ).id;
    const ahead = await repeat('Ahead', { ahead: true });
    expect((await admin.ended((await admin.call('startStanding', { id: ahead })).runId)).state).toBe('done');
    expect(lying()).toHaveLength(2);
    const proof = await repeat('Proof', {});
    for (let n = 0; n < 2; n++) {
      const run = await admin.ended((await admin.call('startStanding', { id: proof })).runId);
      expect([run.state, run.cause]).toEqual(['done', null]);
      await admin.call('readPlatform', { id: cloudId });
    }
    const made = sky.cloud.all().filter((i) => i.name.includes('proof'));
    expect(made.map((i) => [i.name, i.network, i.tags])).toEqual([['gate-01-proof', 'island', []]]);
    expect((await admin.call('listStanding')).rows.map((r) => r.place)).toEqual([
      'Skyfjord, in fjord-north, the disks sent ahead',
      'Skyfjord, in fjord-north, on island, named …-proof',
    ]);
  });
});

describe('a machine that is in a cloud for a trial', () => {
  it('is for no policy, and removed by itself with its disks; one that somebody changed is left and told of', async () => {
    const token = await h.withToken('administrator');
    const plan = await admin.call('planRestore', { body: await toCloud('gate-01', { hours: 4, suffix: '-trial' }) });
    expect(plan.checks.find((c) => c.code === 'REMOVED_AFTER')?.text).toContain('4 hours after it is there it is removed with its disks');
    expect(plan.checks.map((c) => c.code)).not.toContain('TAGS');
    for (const suffix of ['-trial', '-kept'])
      expect((await restore(await toCloud('gate-01', { hours: 4, suffix }, { start: true }))).state).toBe('done');
    expect(sky.cloud.named('gate-01-trial')).toMatchObject({ tags: [], running: true });
    // somebody gives it a disk of their own
    const kept = sky.cloud.named('gate-01-kept');
    sky.cloud.volumes.change(kept.volumes[0]!, { tags: ['mine'] });
    const before = sky.cloud.volumes.all().length;
    ahead += 3 * 3_600_000;
    await h.round();
    expect(sky.cloud.named('gate-01-trial').running).toBe(true);
    ahead += 2 * 3_600_000;
    await expect.poll(() => sky.cloud.all().some((i) => i.name === 'gate-01-trial'), { timeout: 30_000 }).toBe(false);
    expect(sky.cloud.volumes.all()).toHaveLength(before - 2);
    expect(sky.cloud.named('gate-01-kept').running).toBe(true);
    const { matters } = await token.call('watch');
    expect(matters.find((m) => m.title.startsWith('gate-01-kept was to be removed'))).toMatchObject({ level: 'warning' });
    const { rows } = await token.call('audit', { query: { limit: 20 } });
    expect(rows.filter((r) => r.action === 'trial.end').map((r) => r.detail)).toEqual(['on Skyfjord']);
  });
});
