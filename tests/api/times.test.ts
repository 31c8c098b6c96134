import fs from 'node:fs';
import { DateTime } from 'luxon';
import type { BodyInput } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client, type PolicyChange } from '../support/harness';

const zone = 'Europe/Oslo';
let h: Harness;
let admin: Client;
let source: string;
let workloadId: number;
let targetId: string;
/** A clock the test turns. */
const clock = {
  at: DateTime.fromISO('2027-03-01T12:00', { zone }).toMillis(),
  goesOn: false,
  now: () => (clock.goesOn ? ++clock.at : clock.at),
};
const turnTo = (iso: string) => {
  clock.at = DateTime.fromISO(iso, { zone }).toMillis();
};
const local = (at: number | null) => at && DateTime.fromMillis(at, { zone }).toFormat('dd HH:mm');

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 6000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ source, workloadId, targetId } = await h.connect(admin));
  fs.writeFileSync(`${source}/log`, 'tide');
});
afterAll(() => h.stop());

const write = (name: string, more: PolicyChange) => policyFor([workloadId], targetId, { name, zone, ...more });
const runsOf = async (policy: number) => (await admin.call('listRuns', { query: { policy } })).rows;

/** A policy for as long as the test needs it. */
async function withPolicy(body: BodyInput<'addPolicy'>, act: (id: number) => Promise<void>): Promise<void> {
  const { id } = await admin.call('addPolicy', { body });
  try {
    await act(id);
  } finally {
    await admin.call('removePolicy', { id });
  }
}

describe('when policies run', () => {
  it('knows months, minutes and closed days', async () => {
    const next = async (more: PolicyChange) =>
      (await admin.call('consequences', { body: { id: null, body: write('draft', more) } })).nextRuns.map(local);
    turnTo('2027-03-01T12:00');
    expect(await next({ schedule: { every: 'month', on: { nth: 5, weekday: 7 }, at: '02:30' } })).toMatchObject({
      0: '28 03:30',
      1: '25 02:30',
    });
    expect(await next({ schedule: { every: 'month', on: { day: 31 }, at: '22:00' } })).toEqual([
      '31 22:00',
      '30 22:00',
      '31 22:00',
      '30 22:00',
      '31 22:00',
    ]);
    expect((await next({ schedule: { every: 'minutes', minutes: 20 } }))[0]).toBe('01 12:20');
    expect(await next({ schedule: { every: 'day', at: '22:00' }, closed: ['2027-03-02', '03-04'] })).toMatchObject({
      0: '01 22:00',
      1: '03 22:00',
      2: '05 22:00',
    });
  });

  it('refuses what can not be: days that do not exist, policies that wait for themselves or for nothing', async () => {
    const refused = (body: unknown) =>
      expect(admin.call('addPolicy', { body: body as BodyInput<'addPolicy'> })).rejects.toMatchObject({ code: 'INVALID' });
    await refused(write('a', { closed: ['2027-02-30'] }));
    await refused(write('a', { window: { from: '22:00', to: '25:00' } }));
    await refused(write('a', { schedule: { every: 'minutes', minutes: 7 } }));
    await refused(write('a', { schedule: { every: 'after', policyId: 9999 } }));
    await withPolicy(write('first', {}), async (first) => {
      await withPolicy(write('second', { schedule: { every: 'after', policyId: first } }), async (second) => {
        const round = admin.call('changePolicy', { id: first, body: write('first', { schedule: { every: 'after', policyId: second } }) });
        await expect(round).rejects.toMatchObject({ code: 'INVALID', message: expect.stringContaining('wait for itself') as string });
      });
    });
  });

  it('starts after another policy when that has ended well, and only then', async () => {
    turnTo('2027-03-02T12:00');
    await withPolicy(write('berths', { schedule: { every: 'day', at: '22:00' } }), async (first) => {
      await withPolicy(write('tides', { schedule: { every: 'after', policyId: first } }), async (second) => {
        turnTo('2027-03-02T21:59');
        await h.round();
        expect(await runsOf(second)).toEqual([]);
        await expect(admin.call('removePolicy', { id: first })).rejects.toMatchObject({
          code: 'NOT_NOW',
          message: expect.stringContaining('tides') as string,
        });
        const { nextRun } = await admin.call('getPolicy', { id: second });
        expect(local(nextRun)).toBe('02 22:00');
        turnTo('2027-03-02T22:01');
        await h.round();
        clock.at += 60_000;
        await h.round();
        expect(await runsOf(first)).toMatchObject([{ state: 'done' }]);
        expect(await runsOf(second)).toMatchObject([{ state: 'done', trigger: 'schedule' }]);
        clock.at += 60_000;
        await h.round();
        expect(await runsOf(second)).toHaveLength(1);
      });
    });
  });

  it('waits for its window where it makes good what it missed, and says so where it does not', async () => {
    const body = write('window', { schedule: { every: 'day', at: '20:00' }, window: { from: '22:00', to: '05:00' } });
    turnTo('2027-03-03T12:00');
    const { warnings, nextRuns } = await admin.call('consequences', { body: { id: null, body } });
    expect(warnings.map((w) => w.code)).toContain('OUTSIDE_WINDOW');
    expect(nextRuns.map(local).slice(0, 2)).toEqual(['03 22:00', '04 22:00']);
    turnTo('2027-03-03T12:00');
    await withPolicy(body, async (id) => {
      turnTo('2027-03-03T20:01');
      await h.round();
      expect(await runsOf(id)).toEqual([]);
      turnTo('2027-03-03T22:00');
      await h.round();
      expect(await runsOf(id)).toMatchObject([{ state: 'done' }]);
    });
    turnTo('2027-03-04T12:00');
    await withPolicy({ ...body, catchUp: false }, async (id) => {
      turnTo('2027-03-04T20:01');
      await h.round();
      const [run] = await runsOf(id);
      expect(run).toMatchObject({ state: 'notStarted', cause: { code: 'WINDOW_CLOSED' } });
      const retried = await admin.call('retryRun', { id: run!.id });
      expect(await admin.ended(retried.runId)).toMatchObject({ state: 'done' });
    });
    turnTo('2027-03-05T12:00');
    await withPolicy({ ...body, window: null, catchUp: false }, async (id) => {
      turnTo('2027-03-05T20:05');
      await h.round();
      turnTo('2027-03-06T21:00');
      await h.round();
      expect(await runsOf(id)).toMatchObject([{ state: 'notStarted', cause: { code: 'MISSED' } }, { state: 'done' }]);
    });
  });

  it('does not start at the end of its window what still waits, and cuts off what runs where asked to', async () => {
    for (let i = 0; i < 40; i++) fs.writeFileSync(`${source}/large-${i}`, Buffer.alloc(4 << 20, i));
    turnTo('2027-03-08T21:00');
    await h.killMover([...h.movers.keys()][0]!);
    await withPolicy(
      write('cut', { schedule: { every: 'day', at: '22:00' }, window: { from: '22:00', to: '23:00', stop: true } }),
      async (id) => {
        turnTo('2027-03-08T22:00');
        await h.tick();
        turnTo('2027-03-08T22:59');
        await h.tick();
        expect(await runsOf(id)).toMatchObject([{ state: 'waiting' }]);
        turnTo('2027-03-08T23:00');
        await h.tick();
        expect(await runsOf(id)).toMatchObject([{ state: 'notStarted', cause: { code: 'WINDOW_ENDED' } }]);
        expect((await admin.call('watch')).lead.parts.map((p) => p.text).join()).toContain('not start in time');
        turnTo('2027-03-09T22:00');
        await h.tick();
        h.startMover('mover-2');
        await h.moverReady();
        await expect.poll(async () => (await runsOf(id))[0]?.state, { timeout: 60_000, interval: 20 }).toBe('running');
        turnTo('2027-03-09T23:00');
        await h.tick();
        const [run] = await runsOf(id);
        const ended = await admin.ended(run!.id);
        // it may have come to its end in the moment between
        if (ended.state !== 'done') expect(ended).toMatchObject({ state: 'cutOff', cause: { code: 'WINDOW_ENDED' } });
      },
    );
  });

  it('tries again what failed, after the pause and as often as it says', async () => {
    turnTo('2027-03-10T12:00');
    fs.renameSync(source, `${source}-away`);
    await withPolicy(write('again', { schedule: { every: 'day', at: '22:00' }, retries: { times: 2, pauseMinutes: 30 } }), async (id) => {
      turnTo('2027-03-10T22:00');
      await h.round();
      expect(await runsOf(id)).toMatchObject([{ state: 'failed' }]);
      clock.at += 29 * 60_000;
      await h.round();
      expect(await runsOf(id)).toHaveLength(1);
      clock.at += 2 * 60_000;
      await h.round();
      expect(await runsOf(id)).toMatchObject([{ state: 'failed', trigger: 'retry' }, { state: 'failed' }]);
      fs.renameSync(`${source}-away`, source);
      clock.at += 31 * 60_000;
      await h.round();
      expect(await runsOf(id)).toMatchObject([{ state: 'done', trigger: 'retry' }, {}, {}]);
      clock.at += 60 * 60_000;
      await h.round();
      expect(await runsOf(id)).toHaveLength(3);
    });
  });

  it('lets those go first that are to go first', async () => {
    const late = await admin.call('addSource', { body: { name: 'late', folder: source } });
    await h.killMover('mover-2');
    turnTo('2027-03-11T12:00');
    const early = write('slow', { schedule: { every: 'day', at: '21:00' }, priority: 'last' });
    await withPolicy(early, async (slow) => {
      await withPolicy(
        { ...write('quick', { schedule: { every: 'day', at: '22:00' }, priority: 'first' }), workloads: [late.workloadId] },
        async (quick) => {
          turnTo('2027-03-11T21:00');
          await h.tick();
          turnTo('2027-03-11T22:00');
          await h.tick();
          await admin.call('limitAll', { body: { tasks: 1 } });
          clock.goesOn = true;
          h.startMover('mover-3');
          await h.moverReady();
          await h.idle(admin);
          const [[first], [second]] = [await runsOf(quick), await runsOf(slow)];
          expect([first, second]).toMatchObject([{ state: 'done' }, { state: 'done' }]);
          expect(first!.endedAt).toBeLessThan(second!.startedAt!);
          await admin.call('limitAll', { body: { tasks: null } });
        },
      );
    });
  });

  it('goes on all the time: again when it has ended and rested, in its window and on open days, more slowly while it fails', async () => {
    clock.goesOn = false;
    turnTo('2027-06-01T12:02');
    const body = write('sonar', {
      schedule: { every: 'continuous', pauseMinutes: 5 },
      window: { from: '12:00', to: '20:00' },
      closed: ['06-02'],
      retries: { times: 0, pauseMinutes: 30 },
      catchUp: false,
    });
    const { nextRuns, settled } = await admin.call('consequences', { body: { id: null, body } });
    expect(nextRuns.map(local)).toEqual(['01 12:07']);
    expect(settled.arithmetic).toContain('at most 288 runs a day');
    await withPolicy(body, async (id) => {
      const at = async (iso: string) => {
        turnTo(iso);
        await h.round();
        return (await runsOf(id)).length;
      };
      expect(await at('2027-06-01T12:06')).toBe(0);
      expect(await at('2027-06-01T12:07')).toBe(1);
      expect(await at('2027-06-01T12:11')).toBe(1);
      // it waits for nothing it might have missed, and records none of it
      expect(await at('2027-06-01T13:40')).toBe(2);
      expect(await at('2027-06-01T20:00')).toBe(2);
      expect(await at('2027-06-02T12:30')).toBe(2);
      expect(await at('2027-06-03T11:59')).toBe(2);
      expect(await at('2027-06-03T12:00')).toBe(3);
      expect((await runsOf(id)).map((r) => r.state)).toEqual(['done', 'done', 'done']);

      fs.renameSync(source, `${source}-away`);
      expect(await at('2027-06-03T12:05')).toBe(4);
      expect((await runsOf(id))[0]!.state).toBe('failed');
      expect(await at('2027-06-03T12:34')).toBe(4);
      fs.renameSync(`${source}-away`, source);
      expect(await at('2027-06-03T12:35')).toBe(5);
      expect(await at('2027-06-03T12:40')).toBe(6);
    });
  });
});
