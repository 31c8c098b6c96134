import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { PlatformService } from '@lithodex/standins';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, startPlatform } from '../support/platform';

const passphrase = 'a lantern at the end of the quay';
const clock = { at: Date.parse('2026-10-01T20:00:00Z'), now: () => clock.at };
let first: Harness;
let second: Harness;
let admin: Client;
let heir: Client;
let workloadId: number;
let near: string;
let far: string;
let platform: PlatformService | undefined;
const secret = 'seven seals on a bell';
const at = (h: Harness, folder: string) => ({ kind: 'folder' as const, folder: `${h.folder}/${folder}` });
const keep = (h: Harness) => h.server.scheduler.keeper.round();
const records = (folder: string) => fs.readdirSync(`${first.folder}/${folder}/settings`).filter((n) => !n.endsWith('.copy'));

beforeAll(async () => {
  first = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await first.as('administrator');
  const { source, ...made } = await first.connect(admin);
  ({ workloadId, targetId: near } = made);
  fs.writeFileSync(`${source}/tides`, 'high at six');
  await admin.call('tagWorkload', { id: workloadId, body: { tags: ['room: server-room', 'quay'] } });
  far = (await admin.call('addTarget', { body: { name: 'far', place: at(first, 'far'), location: 'Lighthouse' } })).id;
});
afterAll(async () => {
  await first.stop();
  await second.stop();
  await platform?.stop();
});

/** A platform with a machine under a policy of its own, a way for mail, and who is told. */
async function surround(nightWatch: number): Promise<void> {
  const { service, body } = await startPlatform(`${first.folder}/platform`);
  platform = service;
  await buildLogger(service, 'gate-01');
  await admin.call('addPlatform', { body });
  const { workloads } = await admin.call('estate', { query: { q: 'gate-01' } });
  await admin.call('addPolicy', { body: policyFor([workloads[0]!.id], near, { name: 'Gates' }) });
  await admin.call('setMailServer', { body: { host: 'mail.kelmar.example', port: 25, security: 'none', from: 'backup@kelmar.example' } });
  const about = { what: 'runs' as const, policyId: nightWatch, outcome: 'trouble' as const };
  await admin.call('addNotice', { body: { name: 'Night mail', about, way: { by: 'mail', to: ['quay@kelmar.example'] } } });
  const hook = { by: 'webhook' as const, url: 'https://hooks.kelmar.example/lithodex' };
  const address = { kind: 'webdav' as const, url: 'https://drive.kelmar.example/dav' };
  await first.server.deps.db('share').insert({ name: 'Office drive', address: JSON.stringify(address), account: 'clerk' });
  const again = { name: 'Rosters come back', workloads: [workloadId], schedule: { every: 'day' as const, at: '05:00' }, reason: 'a proof' };
  const { id } = await admin.call('addStanding', { body: { ...again, destination: { to: 'folder', folder: '/srv/proof' } } });
  const steps = [
    { restore: { by: 'workload' as const, id: workloadId }, after: [], wait: 0 },
    { restore: { by: 'standing' as const, id }, after: [0], wait: 5 },
  ];
  await admin.call('addSequence', { body: { name: 'Quay in order', steps, objective: 40 } });
  await admin.call('addNotice', { body: { name: 'Watchdog', about: { what: 'matters', level: 'fault' }, way: hook, secret } });
}

describe('the settings', () => {
  it('are written to every target after a change, and only then, sealed and without what opens something', async () => {
    await keep(first);
    expect([records('store').length, records('far').length]).toEqual([1, 1]);
    await keep(first);
    expect(records('store')).toHaveLength(1);
    const copies = [{ targetId: far, rhythm: 'every' as const, keep: { by: 'days' as const, days: 60 }, lockDays: 1 }];
    const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], near, { name: 'Night watch', copies }) });
    const after = { every: 'after' as const, policyId: id };
    await admin.call('addPolicy', { body: policyFor([], near, { name: 'By tag', tags: ['quay'], objectiveHours: 48, schedule: after }) });
    await keep(first);
    expect(records('far')).toHaveLength(2);
    const file = fs.readFileSync(`${first.folder}/far/settings/00000002`).toString('latin1');
    for (const clear of ['Night watch', 'quay', 'password', 'scrypt']) expect(file).not.toContain(clear);
    expect((await admin.call('getTarget', { id: far })).settingsAt).not.toBeNull();
    expect((await admin.call('keptSettings', { id: near })).steps.map((s) => s.effect)).not.toContain('add');
  });

  it('wait for a target that can not be written, and reach it later', async () => {
    fs.renameSync(`${first.folder}/far`, `${first.folder}/unplugged`);
    await admin.call('setLimits', { id: near, body: { writers: 3, paces: [{ from: '08:00', to: '17:00', perSecond: 5_000_000 }] } });
    await admin.call('limitAll', { body: { tasks: 12 } });
    await admin.call('limitSource', { id: (await admin.call('workload', { id: workloadId })).source.id, body: { readers: 2 } });
    await keep(first);
    expect([records('store').length, fs.existsSync(`${first.folder}/far/settings`)]).toEqual([3, false]);
    fs.renameSync(`${first.folder}/unplugged`, `${first.folder}/far`);
    clock.at += 61_000;
    await keep(first);
    expect(records('far')).toHaveLength(3);
  });

  it('of a store that is taken over stay until somebody decides, and make the new installation the old one again', async () => {
    const point = async () => (await admin.call('workload', { id: workloadId })).pointList[0]!;
    const policies = (await admin.call('listPolicies')).rows;
    await admin.ended((await admin.call('runPolicy', { id: policies.find((p) => p.body.name === 'Night watch')!.id, body: {} })).runId);
    await admin.call('holdPoint', { id: (await point()).id, body: { reason: 'the harbour board asked' } });
    await surround(policies.find((p) => p.body.name === 'Night watch')!.id);
    await keep(first);
    const envelopeOf = async (id: string) => (await admin.call('envelope', { id, body: { passphrase } })).content;
    const [nearEnvelope, farEnvelope] = [await envelopeOf(near), await envelopeOf(far)];
    second = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
    heir = await second.as('administrator');
    await second.moverReady();
    const takeOver = async (name: string, folder: string, envelope: string) => {
      const made = await heir.call('takeOverTarget', { body: { name, place: at(first, folder), envelope, passphrase } });
      await heir.ended(made.runId);
      return made.id;
    };
    const here = await takeOver('heirloom', 'store', nearEnvelope);
    await keep(second);
    expect(records('store')).toHaveLength(4);
    const one = await heir.call('keptSettings', { id: here });
    const told = (steps: typeof one.steps) => steps.map((s) => `${s.kind} ${s.effect}`);
    expect(told(one.steps).filter((t) => !t.startsWith('person'))).toEqual([
      'source change',
      'platform leave',
      'target leave',
      'target change',
      'limit change',
      'policy add',
      'policy leave',
      'policy leave',
      'mail server add',
      'notice leave',
      'notice leave',
      'share leave',
      'repeated restore add',
      'sequence add',
      'hold change',
    ]);
    expect(one.steps.find((s) => s.kind === 'policy' && s.effect === 'leave')).toMatchObject({
      name: 'Night watch',
      why: 'needs far, not taken over yet',
    });
    await expect(heir.call('takeSettings', { id: here, body: { at: one.at! - 1 } })).rejects.toMatchObject({ code: 'NOT_NOW' });

    await takeOver('far', 'far', farEnvelope);
    const both = await heir.call('keptSettings', { id: here });
    // what opens something is not kept, so a person has to give it
    expect(both.steps.filter((s) => s.effect === 'leave')).toMatchObject([
      { kind: 'platform', why: expect.stringMatching(/^connect it first: http.*, as keeper, with its password$/) as string },
      { kind: 'notice', name: 'Watchdog', why: 'to be added with a new secret' },
      { kind: 'share', name: 'Office drive', why: 'to be kept again: https://drive.kelmar.example/dav, as clerk, with its password' },
    ]);
    expect(both.steps.find((s) => s.name === 'Gates')).toMatchObject({
      effect: 'add',
      why: 'without gate-01, not known here unless Harbour platform is connected first',
    });
    expect(JSON.stringify(both)).not.toContain(secret);
    expect(await heir.call('takeSettings', { id: here, body: { at: both.at! } })).toEqual({ added: 7, changed: 5 });
    expect((await heir.call('listStanding')).rows).toMatchObject([
      { body: { name: 'Rosters come back', destination: { to: 'folder', folder: '/srv/proof' } }, workloads: [{ name: 'quay-1' }] },
    ]);
    const [standing] = (await heir.call('listStanding')).rows;
    const quay = (await heir.call('estate')).workloads[0]!;
    expect((await heir.call('listSequences')).rows.map((r) => r.body)).toEqual([
      {
        name: 'Quay in order',
        objective: 40,
        steps: [
          { restore: { by: 'workload', id: quay.id }, after: [], wait: 0 },
          { restore: { by: 'standing', id: standing!.id }, after: [0], wait: 5 },
        ],
      },
    ]);
    expect((await heir.call('mailServer')).server).toMatchObject({ host: 'mail.kelmar.example', from: 'backup@kelmar.example' });
    const nightWatch = (await heir.call('listPolicies')).rows.find((p) => p.body.name === 'Night watch')!.id;
    expect((await heir.call('listNotices')).rows).toMatchObject([
      { name: 'Night mail', about: { what: 'runs', policyId: nightWatch }, way: { to: ['quay@kelmar.example'] } },
    ]);
    const [target] = (await heir.call('listTargets')).rows.filter((t) => t.id === here);
    expect(target).toMatchObject({ writers: 3, settingsHeld: false, paces: [{ from: '08:00', to: '17:00', perSecond: 5_000_000 }] });
    expect((await heir.call('listTargets')).rows.find((t) => t.name === 'far')).toMatchObject({
      location: 'Lighthouse',
      settingsHeld: true,
    });
    expect(await heir.call('limits')).toEqual({ tasks: 12 });
    const [mine] = (await heir.call('estate')).workloads;
    expect(mine).toMatchObject({ tags: ['quay', 'room: server-room'], policies: [{ name: 'Night watch' }, { name: 'By tag' }] });
    const detail = await heir.call('workload', { id: mine!.id });
    expect(detail.readers).toBe(2);
    expect(detail.pointList[0]).toMatchObject({ held: true, heldWhy: 'the harbour board asked' });
    const without = ({ workloads: _w, rules, ...rest }: (typeof policies)[number]['body']) => ({
      ...rest,
      rules: rules.map(({ targetId: _t, schedule: _s, copies, ...r }) => ({ ...r, copies: copies.map(({ targetId: _c, ...c }) => c) })),
    });
    const taken = (await heir.call('listPolicies')).rows.filter((p) => p.body.name !== 'Gates');
    expect(taken.map((p) => without(p.body))).toEqual(policies.map((p) => without(p.body)));
    // what follows another follows it here, whatever its number is now
    expect(taken.map((p) => p.body.rules[0]!.schedule)).toEqual([{ every: 'after', policyId: taken[1]!.id }, { every: 'hand' }]);

    const again = await heir.call('keptSettings', { id: here });
    expect(await heir.call('takeSettings', { id: here, body: { at: again.at! } })).toEqual({ added: 0, changed: 0 });
    await keep(second);
    expect([records('store').length, records('far').length]).toEqual([5, 4]);
    await heir.call('leaveSettings', { id: (await heir.call('listTargets')).rows.find((t) => t.name === 'far')!.id });
    await keep(second);
    expect(records('far')).toHaveLength(5);
    await expect(heir.call('leaveSettings', { id: here })).rejects.toMatchObject({ code: 'NOT_NOW' });
    const backup = await heir.call('runPolicy', { id: (await heir.call('listPolicies')).rows[0]!.id, body: {} });
    expect((await heir.ended(backup.runId)).state).toBe('done');
  });

  it('are looked at and taken by an administrator only', async () => {
    for (const role of ['operator', 'auditor', 'clerk'] as const) {
      const client = await first.as(role);
      await expect(client.call('keptSettings', { id: near })).rejects.toMatchObject({ status: 403 });
      await expect(client.call('takeSettings', { id: near, body: { at: 1 } })).rejects.toMatchObject({ status: 403 });
      await expect(client.call('leaveSettings', { id: near })).rejects.toMatchObject({ status: 403 });
    }
  });
});
