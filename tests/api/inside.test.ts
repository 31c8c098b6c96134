import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { PlatformService } from '@lithodex/standins';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, startPlatform } from '../support/platform';

const account = { name: 'backup', password: 'a brass bell at noon' };
let h: Harness;
let admin: Client;
let service: PlatformService;
let targetId: string;
let policyId: number;

const machine = async (name: string) => (await admin.call('estate')).workloads.find((w) => w.name === name)!;
const ids = async (...names: string[]) => Promise.all(names.map(async (name) => (await machine(name)).id));
const give = async (workloads: number[], as = account) => (await admin.call('setInside', { body: { workloads, account: as } })).rows;
const levels = async () => (await admin.call('workload', { id: (await machine('lamp')).id })).pointList.map((p) => p.machine!.level);
const run = async (trial = false) => admin.ended((await admin.call('runPolicy', { id: policyId, body: { trial } })).runId);
const logOf = async (id: number) => (await admin.call('runLog', { id, query: { limit: 100 } })).rows.map((l) => `${l.code}: ${l.message}`);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  const { service: started, body } = await startPlatform(`${h.folder}/platform`);
  service = started;
  for (const name of ['lamp', 'horn', 'helped']) await buildLogger(service, name, { helper: name === 'helped', running: true });
  service.platform.setInside(service.platform.named('lamp').id, [account]);
  await admin.call('addPlatform', { body });
  policyId = (await admin.call('addPolicy', { body: policyFor(await ids('lamp'), targetId, { changeLimit: 100 }) })).id;
}, 60_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

describe('the account inside a machine', () => {
  it('is missed where there is no helper', async () => {
    const trial = await run(true);
    expect(await logOf(trial.id)).toContainEqual(expect.stringContaining('neither a helper nor an account inside'));
    expect((await run()).state).toBe('done');
    expect(await levels()).toEqual(['crash']);
  });

  it('is tried before it is kept, at each machine by itself', async () => {
    expect(await give(await ids('lamp', 'horn'), { ...account, password: 'wrong' })).toMatchObject([
      { workload: { name: 'horn' }, ok: false },
      { workload: { name: 'lamp' }, ok: false, message: 'The machine does not let the account inside in: lamp does not let backup in.' },
    ]);
    expect((await machine('lamp')).inside).toBeNull();
    expect(await give(await ids('lamp', 'horn'))).toMatchObject([
      { ok: false },
      { ok: true, message: 'backup is let in to Linux inside.' },
    ]);
    expect([(await machine('lamp')).inside, (await machine('horn')).inside]).toEqual(['backup', null]);
    await expect(give([9999])).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('brings programs to rest, and is told where it is refused later', async () => {
    const trial = await run(true);
    expect(await logOf(trial.id)).toContainEqual('INSIDE: backup is let in to Linux inside.');
    expect((await run()).state).toBe('done');
    expect(await levels()).toEqual(['crash', 'application']);
    service.platform.setInside(service.platform.named('lamp').id, []);
    const refused = await run();
    expect(refused.state).toBe('remarks');
    expect(await logOf(refused.id)).toContainEqual(expect.stringContaining('lamp does not let backup in'));
    expect(await levels()).toEqual(['crash', 'application', 'crash']);
  });

  it('is never shown, and kept sealed', async () => {
    const auditor = await h.as('auditor');
    const shown = [
      await admin.call('estate'),
      await admin.call('workload', { id: (await machine('lamp')).id }),
      await auditor.call('audit'),
    ];
    expect(JSON.stringify(shown)).not.toContain(account.password);
    expect(JSON.stringify(await auditor.call('audit'))).toContain('inside.set');
    const { secret } = await h.server.deps.db('inside_account').first<{ secret: Buffer }>('secret');
    expect(secret.toString('latin1')).not.toContain(account.password);
  });

  it('is given and forgotten by administrators only', async () => {
    const [id] = await ids('lamp');
    for (const role of ['operator', 'auditor', 'clerk'] as const) {
      const who = await h.as(role);
      await expect(who.call('setInside', { body: { workloads: [id!], account } })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
      await expect(who.call('forgetInside', { id: id! })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    }
    await admin.call('forgetInside', { id: id! });
    expect((await machine('lamp')).inside).toBeNull();
    await expect(admin.call('forgetInside', { id: id! })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });
});
