import fs from 'node:fs';
import { DateTime } from 'luxon';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

const zone = 'Europe/Oslo';
const minute = 60_000;
let h: Harness;
let admin: Client;
let workloads: number[];
let targetId: string;
/** A clock the test turns. */
const clock = { at: DateTime.fromISO('2027-03-01T12:00', { zone }).toMillis(), now: () => clock.at };
const at = (iso: string) => DateTime.fromISO(iso, { zone }).toMillis();

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  const first = await h.connect(admin);
  targetId = first.targetId;
  fs.writeFileSync(`${first.source}/a`, 'a');
  const second = await admin.call('addSource', { body: { name: 'quay-2', folder: first.source } });
  workloads = [first.workloadId, second.workloadId];
});
afterAll(() => h.stop());

/** Puts nights into the history in which each workload took so long. */
async function recorded(policyId: number, minutes: number, nights: number): Promise<void> {
  const { db } = h.server.deps;
  for (let night = 1; night <= nights; night++)
    for (const [i, workloadId] of workloads.entries()) {
      const queued = at('2027-03-01T22:00') - night * 86_400_000;
      const [run] = await db('run').insert({
        kind: 'backup',
        started_by: 'schedule',
        policy_id: policyId,
        name: 'n',
        person: '',
        reason: '',
        rules: '',
        state: 'done',
        queued_at: queued,
      });
      const started = queued + i * minutes * minute;
      await db('task').insert({
        id: `00000000-0000-4000-8000-${String(policyId * 1000 + night * 10 + i).padStart(12, '0')}`,
        run_id: run,
        workload_id: workloadId,
        type: 'backup',
        state: 'done',
        attempt: 1,
        queued_at: queued,
        started_at: started,
        ended_at: started + minutes * minute,
        work: JSON.stringify({ targetId }),
      });
    }
}

describe('what is to come', () => {
  it('tells when the work of the night ends, what misses its window and what would help', async () => {
    const { id: nightly } = await admin.call('addPolicy', {
      body: policyFor(workloads, targetId, { name: 'nightly', zone, schedule: { every: 'day', at: '22:00' } }),
    });
    await recorded(nightly, 90, 8);
    const { id: tides } = await admin.call('addPolicy', {
      body: policyFor([workloads[0]!], targetId, { name: 'tides', zone, schedule: { every: 'after', policyId: nightly } }),
    });
    clock.at = at('2027-03-01T12:00');
    await vi.waitFor(async () => admin.call('changeMover', { id: 'mover-1', body: { drained: false, tasks: 1 } }), {
      timeout: 60_000,
      interval: 100,
    });
    const fit = await admin.call('nightFit');
    // one mover: two tasks one after the other, and then the one that follows
    expect(fit).toMatchObject({ movers: 1, tasks: 3, guessed: 0, missed: 0, ends: at('2027-03-02T02:30') });
    expect(fit.policies.map((p) => [p.name, p.starts, p.ends])).toEqual([
      ['nightly', at('2027-03-01T22:00'), at('2027-03-02T01:00')],
      ['tides', at('2027-03-02T01:00'), at('2027-03-02T02:30')],
    ]);
    expect(fit.changes[0]).toEqual({ text: 'One task more at once on a mover', ends: at('2027-03-02T01:00'), missed: 0 });
    // the same simulation of the night that was, from those before it
    expect(fit.before).toEqual({ from: at('2027-02-28T18:00'), foretold: at('2027-03-01T01:00'), ended: at('2027-03-01T01:00'), tasks: 2 });

    const body = policyFor(workloads, targetId, {
      name: 'nightly',
      zone,
      schedule: { every: 'day', at: '22:00' },
      window: { from: '22:00', to: '23:00', stop: true },
    });
    const { fit: drafted } = await admin.call('consequences', { body: { id: nightly, body } });
    expect(drafted.inForce).toEqual({ ends: at('2027-03-02T02:30'), missed: 0 });
    // the first is cut off, the second does not start, and so nothing follows
    expect(drafted.draft).toEqual({ ends: at('2027-03-01T23:00'), missed: 2 });
    await admin.call('removePolicy', { id: tides });
    await admin.call('removePolicy', { id: nightly });
  });

  it('lays the runs out day by day, and says where a day is closed', async () => {
    const body = policyFor(workloads, targetId, {
      name: 'berths',
      zone,
      schedule: { every: 'hours', hours: 6, at: '00:00' },
      closed: ['03-04'],
    });
    const { id } = await admin.call('addPolicy', { body });
    const { days } = await admin.call('runCalendar', { query: { from: at('2027-03-02T00:00'), to: at('2027-03-05T23:00') } });
    expect(days.map((d) => [d.date, d.runs.map((r) => r.count), d.closed])).toEqual([
      ['2027-03-02', [4], []],
      ['2027-03-03', [4], []],
      ['2027-03-04', [], ['berths']],
      ['2027-03-05', [4], []],
    ]);
    expect(days[0]!.runs[0]).toEqual({
      policyId: id,
      name: 'berths',
      first: at('2027-03-02T00:00'),
      count: 4,
      workloads: 2,
      follows: '',
      continuous: false,
      was: null,
    });
    const long = admin.call('runCalendar', { query: { from: 0, to: 100 * 86_400_000 } });
    await expect(long).rejects.toMatchObject({ code: 'INVALID' });
    await admin.call('removePolicy', { id });
  });

  it('tells of days that were what took place in them, whatever policies say now', async () => {
    clock.at = at('2027-04-05T03:00');
    const { id } = await admin.call('addPolicy', {
      body: policyFor(workloads, targetId, { name: 'ebb', zone, schedule: { every: 'hours', hours: 12, at: '06:00' } }),
    });
    const day = async (date: string) => {
      const from = at(`${date}T00:00`);
      const { days } = await admin.call('runCalendar', { query: { from, to: from + 86_399_999 } });
      return days[0]!.runs.filter((r) => r.policyId === id);
    };
    clock.at = at('2027-04-05T06:00');
    await h.round();
    clock.at = at('2027-04-05T12:00');
    const [morning, evening, ...more] = await day('2027-04-05');
    expect(more).toEqual([]);
    expect(morning).toMatchObject({ first: at('2027-04-05T06:00'), count: 1, workloads: 2, was: { state: 'done' } });
    expect(evening).toMatchObject({ first: at('2027-04-05T18:00'), count: 1, was: null });
    const { runId } = await admin.call('runPolicy', { id, body: {} });
    expect((await day('2027-04-05'))[0]).toMatchObject({ count: 2, was: { runId } });
    await admin.ended(runId);
    await admin.call('removePolicy', { id });
    clock.at = at('2027-04-07T12:00');
    expect(await day('2027-04-05')).toMatchObject([{ name: 'ebb', count: 2, was: { state: 'done' } }]);
    // nothing ran then, so nothing stands there
    expect(await day('2027-04-06')).toEqual([]);
    expect(await day('2027-04-08')).toEqual([]);
    clock.at = at('2027-03-01T12:00');
  });

  it('is fed to calendar programs, for whoever may read and for reading only', async () => {
    const body = policyFor(workloads, targetId, { name: 'Tides; daily, \\ and more', zone, schedule: { every: 'day', at: '22:00' } });
    const { id } = await admin.call('addPolicy', { body });
    const { token } = await admin.call('addToken', { body: { name: 'calendar', role: 'auditor' } });
    const feedAddress = `${h.base}/api/v1/plan/calendar.ics`;
    const basic = { authorization: `Basic ${Buffer.from(`me:${token}`).toString('base64')}` };
    const feed = await fetch(feedAddress, { headers: basic });
    expect(feed.headers.get('content-type')).toContain('text/calendar');
    const text = await feed.text();
    expect(text.startsWith('BEGIN:VCALENDAR')).toBe(true);
    expect(text.match(/BEGIN:VEVENT/g)).toHaveLength(60);
    expect(text).toContain('DTSTART:20270301T210000Z');
    expect(text).toContain(`UID:policy-${id}-${at('2027-03-01T22:00')}@lithodex`);
    expect((await fetch(feedAddress)).status).toBe(401);
    const wrong = { authorization: `Basic ${Buffer.from('me:nothing').toString('base64')}` };
    expect((await fetch(feedAddress, { headers: wrong })).status).toBe(401);
    const post = await fetch(`${h.base}/api/v1/policies/${id}/run`, {
      method: 'POST',
      headers: { ...basic, 'content-type': 'application/json' },
      body: '{}',
    });
    expect(post.status).toBe(401);
    await admin.call('removePolicy', { id });
  });
});
