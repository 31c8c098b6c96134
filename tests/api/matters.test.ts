import type { BodyInput, Matter, Watch } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

const [hour, day] = [3_600_000, 86_400_000];
let h: Harness;
let admin: Client;
let operator: Client;
const clock = { at: Date.UTC(2027, 2, 1, 8), now: () => clock.at };

beforeAll(async () => {
  h = await Harness.start({ movers: 0, clock, schedulerMs: 0 });
  [admin, operator] = [await h.as('administrator'), await h.as('operator')];
});
afterAll(() => h.stop());

/** A workload without a mover, which would have to look at it first. */
async function addSource(name: string): Promise<number> {
  const { db, events } = h.server.deps;
  const [source] = await db('source').insert({ name, folder: Buffer.from('/none'), location: '', cross_fs: false, created_at: clock.at });
  const [workload] = await db('workload').insert({ source_id: source, name, created_at: clock.at });
  await events.emit('estate');
  return workload!;
}
const change = (id: string, body: BodyInput<'changeMatter'>, who = operator) => who.call('changeMatter', { id, body });
const find = ({ matters, putOff }: Watch, id: string): Matter | undefined => [...matters, ...putOff].find((m) => m.id === id);
const matter = async (id: string, who = operator) => find(await who.call('watch'), id);
/** Lets the scheduler look for matters, and waits until it found one, or found it settled. */
async function noticed(id: string, settled = false): Promise<void> {
  clock.at += 61_000;
  const look = async () => {
    await h.tick();
    const row: unknown = await h.server.deps.db('matter').where({ id }).whereNull('closed_at').first();
    expect(row === undefined).toBe(settled);
  };
  await vi.waitFor(look, { timeout: 60_000, interval: 100 });
}

describe('matters', () => {
  it('are taken on, given to others, noted and recorded', async () => {
    await change('no-mover', { owner: (await operator.call('me')).id });
    await change('no-mover', { note: 'The host is being moved.' }, admin);
    expect(await matter('no-mover')).toMatchObject({
      owner: { name: 'operator' },
      note: { text: 'The host is being moved.', by: 'administrator', at: clock.at },
    });
    const { people } = await operator.call('watch');
    expect(people.map((p) => p.name)).toEqual(['administrator', 'operator']);
    const { rows } = await admin.call('audit', { query: {} });
    expect(rows.filter((r) => r.action === 'matter.change')).toHaveLength(2);
    await change('no-mover', { owner: null, note: '' });
    expect(await matter('no-mover')).toMatchObject({ owner: null, note: null });
  });

  it('refuse owners who could not act, times that have passed, and what is settled', async () => {
    const clerk = (await (await h.as('clerk')).call('me')).id;
    await expect(change('no-mover', { owner: clerk })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(change('no-mover', { putOff: clock.at })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(change('late', { note: 'x' })).rejects.toMatchObject({ code: 'NOT_FOUND' });
    await expect(change('no-mover', { note: 'x' }, await h.as('auditor'))).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    expect(await matter('no-mover')).toMatchObject({ owner: null, note: null, putOff: null });
  });

  it('that are put off stand apart until their time, or until they become worse', async () => {
    await change('no-mover', { putOff: clock.at + day });
    const off = await operator.call('watch');
    expect([off.matters.map((m) => m.id), off.putOff.map((m) => m.id)]).toEqual([[], ['no-mover']]);
    clock.at += day + 1;
    expect((await operator.call('watch')).matters.map((m) => m.id)).toEqual(['no-mover']);
    await change('no-mover', { putOff: clock.at + day });
    await h.server.deps.db('matter').where({ id: 'no-mover' }).update({ put_off_level: 'warning' });
    expect((await operator.call('watch')).matters.map((m) => m.id)).toEqual(['no-mover']);
  });

  it('that came up after one looked are new to one for the whole next visit, and to nobody else', async () => {
    expect((await matter('no-mover'))?.fresh).toBe(false);
    await noticed('no-mover');
    await operator.call('looked');
    clock.at += 2 * hour;
    await addSource('quay-9');
    await noticed('unprotected');
    const seen = async (who: Client) => (await who.call('watch')).matters.map((m) => [m.id, m.fresh]);
    const news = [
      ['no-mover', false],
      ['unprotected', true],
    ];
    expect(await seen(operator)).toEqual(news);
    expect((await seen(admin)).every(([, fresh]) => fresh === false)).toBe(true);
    await operator.call('looked');
    clock.at += 20 * 60_000;
    await operator.call('looked');
    expect(await seen(operator)).toEqual(news);
    clock.at += hour;
    expect((await seen(operator)).every(([, fresh]) => fresh === false)).toBe(true);
  });

  it('tell since when they are there', async () => {
    const opened = clock.at;
    const targetId = '00000000-0000-4000-8000-000000000001';
    await h.server.deps.db('target').insert({ id: targetId, name: 'disk', folder: '/none', location: '', created_at: clock.at });
    const { id } = await admin.call('addPolicy', { body: policyFor([], targetId, { name: 'Cranes', tags: ['cranes'] }) });
    await noticed(`empty-${id}`);
    clock.at += 5 * day;
    expect((await matter(`empty-${id}`))?.since).toBeGreaterThanOrEqual(opened);
    expect((await matter(`empty-${id}`))!.since).toBeLessThan(clock.at - 4 * day);
    await change(`empty-${id}`, { note: 'Cranes come in May.' });
    const tagged = await addSource('crane-1');
    const tag = (tags: string[]) => admin.call('tagWorkload', { id: tagged, body: { tags } });
    await tag(['cranes']);
    await noticed(`empty-${id}`, true);
    expect(await matter(`empty-${id}`)).toBeUndefined();
    // back within a day it is the same matter, later another
    await tag([]);
    await noticed(`empty-${id}`);
    expect(await matter(`empty-${id}`)).toMatchObject({ note: { text: 'Cranes come in May.' } });
    await tag(['cranes']);
    await noticed(`empty-${id}`, true);
    clock.at += 2 * day;
    await tag([]);
    await noticed(`empty-${id}`);
    expect(await matter(`empty-${id}`)).toMatchObject({ note: null });
  });
});
