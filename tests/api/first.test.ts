import { createHash } from 'node:crypto';
import { TOTP } from 'otpauth';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Client, Harness } from '../support/harness';

const code = 'lxf_a-code-for-the-first-one';
const person = { code, name: 'eva.vind', display: 'Eva Vind', password: 'seven crooked bollards', zone: 'Europe/Oslo' };

let h: Harness;
beforeAll(async () => {
  h = await Harness.start({ movers: 1 });
  h.server.deps.config.firstCode = createHash('sha256').update(code).digest('hex');
});
afterAll(() => h.stop());

const fresh = () => new Client(() => h.base);
const codeOf = (call: Promise<unknown>) =>
  call.then(
    () => 'OK',
    (e: unknown) => (e as { code: string }).code,
  );

describe('the first administrator', () => {
  beforeEach(async () => {
    await h.server.deps.db('sign_in_failure').delete();
  });

  it('is made by nobody while there are others', async () => {
    expect(await fresh().call('signInWays')).toMatchObject({ nobodyYet: false });
    expect(await codeOf(fresh().call('makeFirstPerson', { body: person }))).toBe('CODE_REFUSED');
  });

  it('is made once, by whoever has the code, and sets up a second factor next', async () => {
    await h.server.deps.db('person').delete();
    await h.server.deps
      .db('setting')
      .insert({ name: 'sign-in', value: JSON.stringify({ secondFor: ['administrator'], idleMinutes: 240 }) });
    expect(await fresh().call('signInWays')).toMatchObject({ nobodyYet: true });
    for (const [change, refused] of [
      [{ code: 'lxf_another-code-of-this-length' }, 'CODE_REFUSED'],
      [{ password: 'password1234' }, 'PASSWORD_WEAK'],
      [{ zone: 'Atlantis/Middle' }, 'INVALID'],
      [{ name: 'Eva Vind' }, 'INVALID'],
    ] as const)
      expect(await codeOf(fresh().call('makeFirstPerson', { body: { ...person, ...change } }))).toBe(refused);
    expect(await fresh().call('signInWays')).toMatchObject({ nobodyYet: true });

    const [one, other] = [fresh(), fresh()];
    const both = await Promise.all([
      codeOf(one.call('makeFirstPerson', { body: person })),
      codeOf(other.call('makeFirstPerson', { body: { ...person, name: 'sten.odda' } })),
    ]);
    expect(both.sort()).toEqual(['CODE_REFUSED', 'OK']);
    expect(await h.server.deps.db('person').select('role')).toEqual([{ role: 'administrator' }]);
  });

  it('signs in with both, in the zone that was chosen, also after the server was started again', async () => {
    await h.server.deps.db('person').delete();
    const client = fresh();
    expect(await client.call('makeFirstPerson', { body: person })).toEqual({ step: 'enrol', ways: ['code', 'passkey'] });
    expect(await codeOf(client.call('listPeople'))).toBe('NOT_SIGNED_IN');
    const { secret } = await client.call('offerCode');
    const { signedIn } = await client.call('takeCode', { body: { code: new TOTP({ secret, period: 30 }).generate() } });
    expect(signedIn).toMatchObject({ name: 'eva.vind', role: 'administrator', zone: 'Europe/Oslo' });
    await h.server.deps
      .db('setting')
      .where({ name: 'zone' })
      .update({ value: JSON.stringify({ zone: 'Pacific/Auckland' }) });
    await h.server.close();
    await h.startServer();
    expect(await (await h.withToken('auditor')).call('me')).toMatchObject({ zone: 'Pacific/Auckland' });
    const check = await (await h.withToken('auditor')).call('checkAudit');
    expect(check).toMatchObject({ intact: true });
  });
});

describe('the first steps', () => {
  it('are told from what is there, and hidden when somebody says so', async () => {
    const admin = await h.withToken('administrator');
    await h.moverReady();
    const left = async () => (await admin.call('firstSteps')).steps.filter((s) => !s.done).map((s) => s.name);
    expect(await left()).toEqual(['target', 'envelope', 'source', 'policy', 'point', 'restore']);
    const { id } = await admin.call('addTarget', {
      body: { name: 'quay-disk', place: { kind: 'folder', folder: `${h.folder}/disk` }, location: '' },
    });
    expect(await left()).toEqual(['envelope', 'source', 'policy', 'point', 'restore']);
    const envelope = () => admin.call('envelope', { id, body: { passphrase: 'three lanterns on the mole' } });
    await envelope();
    expect(await left()).toEqual(['source', 'policy', 'point', 'restore']);
    expect((await admin.call('getTarget', { id })).envelopeAt).toBeGreaterThan(0);
    // an envelope opens the target whatever key files are made since
    await admin.call('newKey', { id });
    expect(await left()).not.toContain('envelope');
    const reminded = async () => (await admin.call('watch', {})).matters.some((m) => m.id === 'no-envelope');
    await h.server.deps.db('target').update({ envelope_at: null });
    expect(await reminded()).toBe(false);
    await h.server.deps.db('target').update({ created_at: Date.now() - 2 * 86_400_000 });
    expect(await reminded()).toBe(true);
    await envelope();
    expect(await reminded()).toBe(false);
    await admin.call('hideFirstSteps', { body: { hidden: true } });
    expect((await admin.call('firstSteps')).hidden).toBe(true);
    await admin.call('hideFirstSteps', { body: { hidden: false } });
    expect((await admin.call('firstSteps')).hidden).toBe(false);
  });

  it('say what is running here', async () => {
    const about = await (await h.withToken('clerk')).call('about');
    expect(about).toMatchObject({
      version: expect.stringMatching(/^\d+\.\d+\.\d+$/) as string,
      movers: [{ name: 'mover-1', current: true }],
      encrypted: false,
    });
    expect(about.schema).toMatch(/^\d{4}-/);
  });
});
