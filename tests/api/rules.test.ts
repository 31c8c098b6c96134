import fs from 'node:fs';
import { DateTime } from 'luxon';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import { Harness, policyFor, withRule, type Client } from '../support/harness';

const zone = 'Europe/Oslo';
const clock = { at: 0, now: () => clock.at };
let h: Harness;
let admin: Client;
let source: string;
let workloadId: number;
let targetId: string;
let far: string;
let policyId: number;

const turnTo = (iso: string) => {
  clock.at = DateTime.fromISO(iso, { zone }).toMillis();
};
const points = async () => (await admin.call('workload', { id: workloadId })).pointList;
/** Points as day and kind, oldest first. */
const told = async () => (await points()).map((p) => `${DateTime.fromMillis(p.moment, { zone }).toFormat('dd')} ${p.kind}`);
const runs = async () => (await admin.call('listRuns', { query: { policy: policyId } })).rows.filter((r) => r.kind === 'backup');

/** Daily incrementals, of which three days stay, and fulls each Sunday, of which two stay and are copied. */
const body = (): BodyInput<'addPolicy'> => {
  const daily = policyFor([workloadId], targetId, {
    schedule: { every: 'day', at: '22:00' },
    keep: { by: 'days', days: 3 },
    changeLimit: 100,
  });
  const full = {
    no: 2,
    kind: 'full' as const,
    schedule: { every: 'week' as const, days: [7], at: '22:00' },
    keep: { by: 'points' as const, points: 2 },
    targetId,
    copies: [{ targetId: far, rhythm: 'every' as const, keep: { by: 'points' as const, points: 9 } }],
  };
  return { ...daily, rules: [...daily.rules, full] };
};

async function night(day: string): Promise<void> {
  turnTo(`2027-02-${day}T22:00:30`);
  fs.writeFileSync(`${source}/log`, `tide of ${day}`);
  await h.round();
  await h.round();
  await h.round();
}

beforeAll(async () => {
  turnTo('2027-02-01T12:00');
  h = await Harness.start({ clock, leaseMs: 6000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ source, workloadId, targetId } = await h.connect(admin));
  far = (await admin.call('addTarget', { body: { name: 'far', place: { kind: 'folder', folder: `${h.folder}/far` } } })).id;
});
afterAll(() => h.stop());

describe('a policy of several rules', () => {
  it('tells what they come to together before it is in force', async () => {
    const c = await admin.call('consequences', { body: { id: null, body: body() } });
    // a full takes the place of a day's incremental only now and then, so about as many as the rules say
    expect(c.settled).toMatchObject({ points: 5, furthestDays: 14 });
    expect(c.settled.arithmetic).toBe('3 days × 1 run a day = 3 points; 2 points ÷ 1 run a week = 14 days back');
    const longer = withRule(body(), { keep: { by: 'days', days: 14 } });
    expect((await admin.call('consequences', { body: { id: null, body: longer } })).settled).toMatchObject({
      points: 14,
      arithmetic: '14 days × 1 run a day = 14 points, less 2 that another rule takes; 2 points ÷ 1 run a week = 14 days back',
    });
    const [one] = body().rules;
    await expect(admin.call('addPolicy', { body: { ...body(), rules: [one!, { ...one!, kind: 'full' }] } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    policyId = (await admin.call('addPolicy', { body: body() })).id;
  });

  it('lets the rule that reads most take the point where several come due, and each keep its own', async () => {
    for (const day of ['01', '02', '03', '04', '05', '06', '07', '08', '09', '10', '11', '12', '13', '14', '15']) await night(day);
    expect(await told()).toEqual(['07 full', '13 incremental', '14 full', '15 incremental']);
    expect(await runs()).toHaveLength(15);
    const [week] = await points();
    expect(week!.copies.map((c) => [c.target, c.keepWhy])).toEqual([
      ['quay-disk', 'the newest 2 points are kept'],
      ['far', 'the newest 9 points are kept'],
    ]);
    expect((await points())[1]!.copies.map((c) => [c.target, c.keepWhy])).toEqual([['quay-disk', 'kept for 3 days']]);
  });

  it('runs the rule that a person names, and tries all of them without moving anything', async () => {
    clock.at += 60_000;
    const { runId } = await admin.call('runPolicy', { id: policyId, body: { rule: 2 } });
    expect(await admin.ended(runId)).toMatchObject({ pointKind: 'full', state: 'done' });
    await h.round();
    await h.round();
    expect(await told()).toEqual(['07 full', '13 incremental', '14 full', '15 incremental', '15 full']);
    await expect(admin.call('runPolicy', { id: policyId, body: { rule: 3 } })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    const elsewhere = body();
    await admin.call('changePolicy', {
      id: policyId,
      body: { ...elsewhere, rules: [elsewhere.rules[0]!, { ...elsewhere.rules[1]!, targetId: far, copies: [] }] },
    });
    const trial = await admin.ended((await admin.call('runPolicy', { id: policyId, body: { trial: true } })).runId);
    expect(trial).toMatchObject({ kind: 'trial', state: 'done', workloadCount: 1 });
    expect(await points()).toHaveLength(5);
    await admin.call('changePolicy', { id: policyId, body: body() });
  });

  it('says what becomes of the points of a rule that it loses', async () => {
    const { rules } = body();
    const c = await admin.call('consequences', { body: { id: policyId, body: { ...body(), rules: [rules[0]!] } } });
    // what was taken by hand has displaced none of the scheduled ones
    expect(c.deletes.points).toBe(1);
    turnTo('2027-02-17T23:00');
    const later = await admin.call('consequences', { body: { id: policyId, body: { ...body(), rules: [rules[0]!] } } });
    expect(later.deletes).toMatchObject({ points: 3, workloads: ['quay-1'] });
  });

  it('tells which numbers are taken, of rules it has no more too', async () => {
    await admin.call('changePolicy', { id: policyId, body: { ...body(), rules: [...body().rules, { ...body().rules[1]!, no: 7 }] } });
    await h.agree(await admin.call('changePolicy', { id: policyId, body: body() }));
    expect((await admin.call('getPolicy', { id: policyId })).newestRule).toBe(7);
  });

  it('takes no point where the rule that reads most could not start, so that another one does', async () => {
    const { rules, ...shared } = body();
    const strict = {
      ...shared,
      name: 'Strict',
      catchUp: false,
      rules: [
        { ...rules[0]!, schedule: { every: 'day' as const, at: '12:00' } },
        { ...rules[1]!, schedule: { every: 'day' as const, at: '06:00' }, copies: [] },
      ],
    };
    turnTo('2027-03-01T05:00');
    const { id } = await admin.call('addPolicy', { body: strict });
    // nothing looked at the time for some hours
    turnTo('2027-03-01T12:01');
    await h.round();
    const { rows } = await admin.call('listRuns', { query: { policy: id } });
    expect(rows.map((r) => [r.pointKind, r.state])).toEqual(
      expect.arrayContaining([
        ['full', 'notStarted'],
        ['incremental', 'done'],
      ]),
    );
    expect(rows).toHaveLength(2);
    await admin.call('removePolicy', { id });
  });

  it('keeps its points beside those of another policy that writes to the same target', async () => {
    const other = policyFor([workloadId], targetId, { name: 'Brief', keep: { by: 'points', points: 1 }, changeLimit: 100 });
    const { id } = await admin.call('addPolicy', { body: other });
    for (const hour of ['08', '09', '10']) {
      turnTo(`2027-03-02T${hour}:00`);
      await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
      await h.round();
    }
    expect((await points()).map((p) => `${p.policy} ${p.kind}`)).toEqual(
      expect.arrayContaining(['Server room full', 'Server room full', 'Brief incremental']),
    );
    expect((await points()).filter((p) => p.policy === 'Brief')).toHaveLength(1);
    await admin.call('removePolicy', { id });
  });
});
