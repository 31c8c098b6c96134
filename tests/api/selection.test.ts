import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let targetId: string;
let ids: Record<string, number>;

async function source(name: string, location: string, tags: string[]): Promise<number> {
  fs.mkdirSync(`${h.folder}/${name}`, { recursive: true });
  fs.writeFileSync(`${h.folder}/${name}/log`, name);
  return (await admin.call('addSource', { body: { name, folder: `${h.folder}/${name}`, location, tags } })).workloadId;
}

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin, 'unasked'));
  ids = {
    'gate-1': await source('gate-1', 'harbour office', ['gates']),
    'gate-2': await source('gate-2', 'lighthouse station', ['gates', 'room: north']),
    'gate-test': await source('gate-test', 'harbour office', ['gates', 'test']),
    crane: await source('crane', 'harbour office', []),
  };
});
afterAll(() => h.stop());

const draft = (more: Partial<BodyInput<'addPolicy'>>) => policyFor([], targetId, { name: 'by rule', ...more });
const matches = async (more: Partial<BodyInput<'addPolicy'>>, id: number | null = null) =>
  (await admin.call('consequences', { body: { id, body: draft(more) } })).matches.map((m) => [m.name, m.why]);

describe('a policy by rule', () => {
  it('shows what fits and by which conditions, with what is left out again', async () => {
    expect(await matches({ rule: 'tag gates and not tag test' })).toEqual([
      ['gate-1', 'tag gates, not tag test'],
      ['gate-2', 'tag gates, not tag test'],
    ]);
    expect(await matches({ rule: 'location light* or name crane', tags: ['test'] })).toEqual([
      ['crane', 'name crane'],
      ['gate-2', 'location light*'],
      ['gate-test', 'tagged test'],
    ]);
    expect(await matches({ tags: ['gates'], workloads: [ids['crane']!], except: 'name *-test or name crane' })).toEqual([
      ['gate-1', 'tagged gates'],
      ['gate-2', 'tagged gates'],
    ]);
    expect(await matches({ except: 'name *' })).toEqual([]);
  });

  it('refuses a rule that can not be read, and says where', async () => {
    const wrong = admin.call('addPolicy', { body: draft({ rule: 'tag gates and' }) });
    await expect(wrong).rejects.toMatchObject({ code: 'INVALID', message: expect.stringContaining('a condition is missing') as string });
    await expect(admin.call('addPolicy', { body: draft({ except: 'colour red' }) })).rejects.toMatchObject({ code: 'INVALID' });
    expect((await admin.call('listPolicies')).total).toBe(0);
  });

  it('protects what lands later in its next run, and tells what came and went since', async () => {
    const body = draft({ rule: 'tag gates', except: 'tag test' });
    const { id } = await admin.call('addPolicy', { body });
    const run = async () =>
      (await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId)).tasks.map((t) => t.workload.name).sort();
    expect(await run()).toEqual(['gate-1', 'gate-2']);
    await source('gate-3', 'harbour office', ['gates']);
    await admin.call('tagWorkload', { id: ids['gate-1']!, body: { tags: ['gates', 'test'] } });
    expect(await run()).toEqual(['gate-2', 'gate-3']);
    const changed = { ...body, rule: 'tag gates or name crane', except: 'tag test or name gate-2' };
    const c = await admin.call('consequences', { body: { id, body: changed } });
    expect(c.matches.map((m) => [m.name, m.fresh])).toEqual([
      ['crane', true],
      ['gate-3', false],
    ]);
    expect(c.gone.map((g) => g.name)).toEqual(['gate-2']);
    await admin.call('removePolicy', { id });
  });
});
