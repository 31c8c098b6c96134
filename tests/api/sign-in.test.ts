import { TOTP } from 'otpauth';
import { OrganisationService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Client, Harness } from '../support/harness';
import { comeByOrganisation } from '../support/organisation-visit';

let h: Harness;
let admin: Client;
let organisation: OrganisationService;
const good = 'seven crooked bollards';

beforeAll(async () => {
  h = await Harness.start({ movers: 0 });
  admin = await h.withToken('administrator');
  const secret = 'a secret between the two';
  organisation = new OrganisationService({
    clientId: 'lithodex',
    clientSecret: secret,
    redirects: [`${h.base}/api/v1/session/organisation/back`],
    members: [
      { name: 'tove.lund', display: 'Tove Lund', password: 'fish', groups: ['staff', 'backup-operators'] },
      { name: 'arne.moe', display: 'Arne Moe', password: 'fowl', groups: ['staff'] },
    ],
  });
  await organisation.start();
});
afterAll(async () => {
  await organisation.stop();
  await h.stop();
});

const fresh = () => new Client(() => h.base);
const codeOf = (call: Promise<unknown>) =>
  call.then(
    () => 'OK',
    (e: unknown) => (e as { code: string }).code,
  );
let people = 0;
/** A person who has changed the first password already. */
async function person(role: 'administrator' | 'operator' = 'operator'): Promise<{ id: number; name: string }> {
  const name = `person.${++people}`;
  const { id } = await admin.call('addPerson', { body: { name, display: name, role, password: good } });
  await h.server.deps.db('person').where({ id }).update({ must_change: false });
  return { id, name };
}
const codes = (address: string) => {
  const secret = new URL(address).searchParams.get('secret')!;
  let ahead = 0;
  // each code is good once: the next one is that of the next half minute, which is taken early
  return () => new TOTP({ secret, period: 30 }).generate({ timestamp: Date.now() + 30_000 * ahead++ });
};

describe('the first sign-in', () => {
  it('asks for another password, and refuses weak ones', async () => {
    const { id } = await admin.call('addPerson', { body: { name: 'new.hand', display: 'New Hand', role: 'operator', password: good } });
    for (const password of ['password1234', 'qwertyuiopasdf', 'aaaaaaaaaaaaaa', 'weak.one.weak.one'])
      expect(await codeOf(admin.call('addPerson', { body: { name: 'weak.one', display: 'Weak', role: 'operator', password } }))).toBe(
        'PASSWORD_WEAK',
      );
    const client = fresh();
    expect(await client.call('signIn', { body: { name: 'new.hand', password: good } })).toEqual({ step: 'password', ways: [] });
    expect(await codeOf(client.call('me'))).toBe('NOT_SIGNED_IN');
    expect(await codeOf(client.call('choosePassword', { body: { password: 'newhandnewhand' } }))).toBe('PASSWORD_WEAK');
    expect(await codeOf(client.call('choosePassword', { body: { password: good } }))).toBe('PASSWORD_WEAK');
    expect(await client.call('choosePassword', { body: { password: 'eleven patient herons' } })).toMatchObject({ name: 'new.hand' });
    expect(await client.call('me')).toMatchObject({ id });
  });
});

describe('a second factor', () => {
  it('is set up on the way in where a role needs it, shown from then on, and each code is good once', async () => {
    await admin.call('setSignInRules', { body: { secondFor: ['administrator'], idleMinutes: 60 } });
    const { id, name } = await person('administrator');
    const client = fresh();
    expect(await client.call('signIn', { body: { name, password: good } })).toMatchObject({ step: 'enrol' });
    expect(await codeOf(client.call('listPeople'))).toBe('NOT_SIGNED_IN');
    const offer = await client.call('offerCode');
    expect(offer.picture).toContain('<svg');
    const next = codes(offer.address);
    expect(await codeOf(client.call('takeCode', { body: { code: '000000' } }))).toBe('SECOND_REFUSED');
    const { recovery, signedIn } = await client.call('takeCode', { body: { code: next() } });
    expect(signedIn).toMatchObject({ name });
    expect(recovery).toHaveLength(10);
    const again = fresh();
    expect(await again.call('signIn', { body: { name, password: good } })).toEqual({ step: 'second', ways: ['code', 'recovery'] });
    expect(await codeOf(again.call('offerCode'))).toBe('NOT_SIGNED_IN');
    const code = next();
    expect(await codeOf(again.call('showSecond', { body: { by: 'code', code: '123456' } }))).toBe('SECOND_REFUSED');
    expect(await again.call('showSecond', { body: { by: 'code', code } })).toMatchObject({ name });
    const third = fresh();
    await third.call('signIn', { body: { name, password: good } });
    expect(await codeOf(third.call('showSecond', { body: { by: 'code', code } }))).toBe('SECOND_REFUSED');
    expect(await third.call('showSecond', { body: { by: 'recovery', code: recovery[0]!.toUpperCase() } })).toMatchObject({ name });
    const fourth = fresh();
    await fourth.call('signIn', { body: { name, password: good } });
    expect(await codeOf(fourth.call('showSecond', { body: { by: 'recovery', code: recovery[0]! } }))).toBe('SECOND_REFUSED');
    const stored = JSON.stringify(await h.server.deps.db('person').where({ id }).first());
    expect(stored).not.toContain(offer.secret);
    expect(stored).not.toContain(recovery[1]!.replace('-', ''));
    expect((await admin.call('listPeople')).rows.find((p) => p.id === id)).toMatchObject({ second: 'code' });
    await admin.call('setSignInRules', { body: { secondFor: [], idleMinutes: 60 } });
  });

  it('is nothing for who has not shown a password', async () => {
    const client = fresh();
    for (const call of [
      client.call('showSecond', { body: { by: 'code', code: '123456' } }),
      client.call('askPasskey'),
      client.call('offerCode'),
      client.call('offerPasskey'),
      client.call('choosePassword', { body: { password: good } }),
    ])
      expect(await codeOf(call)).toBe('NOT_SIGNED_IN');
  });
});

describe('a session', () => {
  it('ends after a pause, elsewhere when its person says so, and at once when they are barred', async () => {
    const { id, name } = await person();
    const [one, two] = [fresh(), fresh()];
    await one.signIn(name, good);
    await two.signIn(name, good);
    const { sessions } = await one.call('ownAccount');
    expect(sessions.map((s) => s.own).sort()).toEqual([false, true]);
    const { db } = h.server.deps;
    // a call that lasts, and notes that the session is used when it ends, does not bring it back
    await db.raw("UPDATE session SET data = JSON_SET(data, '$.seenAt', 1), data = JSON_REMOVE(data, '$.idleMs') WHERE person_id = ?", [id]);
    const lasting = (await two.fetch('events')).body!.getReader();
    await one.call('endOtherSessions');
    for (let ended = false; !ended;) ended = (await lasting.read()).done;
    await new Promise((resume) => setTimeout(resume, 300));
    expect(await codeOf(two.call('me'))).toBe('NOT_SIGNED_IN');
    const row = await db('session').where({ person_id: id }).first<{ sid: string; data: string | object }>();
    const data = (typeof row.data === 'string' ? JSON.parse(row.data) : row.data) as Record<string, unknown>;
    await db('session')
      .where({ sid: row.sid })
      .update({ data: JSON.stringify({ ...data, idleMs: 3_600_000, seenAt: Date.now() - 61 * 60_000 }) });
    expect(await codeOf(one.call('me'))).toBe('NOT_SIGNED_IN');
    await one.signIn(name, good);
    const events = await one.fetch('events');
    const open = events.body!.getReader();
    await admin.call('removePerson', { id });
    for (let ended = false; !ended;) ended = (await open.read()).done;
    expect(await codeOf(one.call('me'))).toBe('NOT_SIGNED_IN');
    expect(await codeOf(fresh().signIn(name, good))).toBe('SIGN_IN_REFUSED');
  });

  it('has to show once more who it is before secrets and people are changed', async () => {
    const { id, name } = await person('administrator');
    const client = fresh();
    await client.signIn(name, good);
    const { db } = h.server.deps;
    const age = async () => {
      const row = await db('session').where({ person_id: id }).first<{ sid: string; data: string | object }>();
      const data = (typeof row.data === 'string' ? JSON.parse(row.data) : row.data) as Record<string, unknown>;
      await db('session')
        .where({ sid: row.sid })
        .update({ data: JSON.stringify({ ...data, confirmedAt: Date.now() - 11 * 60_000 }) });
    };
    await age();
    const token = { name: 'late', role: 'auditor' as const };
    expect(await codeOf(client.call('addToken', { body: token }))).toBe('CONFIRM_FIRST');
    expect(await codeOf(client.call('offerCode'))).toBe('CONFIRM_FIRST');
    expect(await codeOf(client.call('confirm', { body: { by: 'password', password: 'not it' } }))).toBe('SECOND_REFUSED');
    await client.call('confirm', { body: { by: 'password', password: good } });
    expect(await codeOf(client.call('addToken', { body: token }))).toBe('OK');
    expect((await admin.call('listTokens')).rows.find((t) => t.name === 'late')).toMatchObject({ owner: name, role: 'auditor' });
  });
});

describe('a password', () => {
  it('is changed by its owner, who knows the old one, and reset by a link that works once', async () => {
    const { id, name } = await person();
    const client = fresh();
    await client.signIn(name, good);
    const change = (old: string, password: string) => codeOf(client.call('changePassword', { body: { old, password } }));
    expect(await change('wrong', 'nine drifting lighters')).toBe('SECOND_REFUSED');
    expect(await change(good, 'password1234')).toBe('PASSWORD_WEAK');
    expect(await change(good, 'nine drifting lighters')).toBe('OK');
    const { path } = await admin.call('resetPerson', { id, body: {} });
    const code = new URL(path, 'http://x').searchParams.get('code')!;
    const reset = (password: string) => codeOf(fresh().call('resetPassword', { body: { code, password } }));
    expect(await reset('password1234')).toBe('PASSWORD_WEAK');
    expect(await reset('twelve foggy capstans')).toBe('OK');
    expect(await reset('twelve foggy capstans')).toBe('CODE_REFUSED');
    expect(await codeOf(client.call('me'))).toBe('NOT_SIGNED_IN');
    expect(await codeOf(fresh().signIn(name, 'nine drifting lighters'))).toBe('SIGN_IN_REFUSED');
    await fresh().signIn(name, 'twelve foggy capstans');
  });

  it('that is guessed at from elsewhere does not shut its owner out', async () => {
    const { name } = await person();
    const { db } = h.server.deps;
    const fail = (address: string, count: number) =>
      db('sign_in_failure').insert(Array.from({ length: count }, () => ({ name, address, at: Date.now() })));
    await fresh().signIn(name, good);
    await fail('198.51.100.7', 12);
    // from here they signed in before
    await fresh().signIn(name, good);
    await db('sign_in_place').delete();
    expect(await codeOf(fresh().signIn(name, good))).toBe('TOO_MANY_TRIES');
    await db('sign_in_failure').delete();
  });
});

describe('a token', () => {
  it('ends, is issued anew, acts for the workloads it was given for, and goes with its owner', async () => {
    const { id, name } = await person('administrator');
    const client = fresh();
    await client.signIn(name, good);
    const { token } = await client.call('addToken', { body: { name: 'nightly', role: 'auditor', days: 2 } });
    const holder = new Client(() => h.base, token);
    await holder.call('listPeople');
    const row = (await admin.call('listTokens')).rows.find((t) => t.name === 'nightly')!;
    await h.server.deps
      .db('api_token')
      .where({ id: row.id })
      .update({ expires_at: Date.now() - 1 });
    expect(await codeOf(holder.call('listPeople'))).toBe('TOKEN_ENDED');
    const renewed = await client.call('rotateToken', { id: row.id, body: {} });
    expect(await codeOf(holder.call('listPeople'))).toBe('NOT_SIGNED_IN');
    const again = new Client(() => h.base, renewed.token);
    await again.call('listPeople');
    const clerk = await client.call('addToken', { body: { name: 'desk', role: 'clerk', remit: [42] } });
    expect(await new Client(() => h.base, clerk.token).call('me')).toMatchObject({ role: 'clerk', remit: [42] });
    await admin.call('removePerson', { id });
    for (const t of [renewed.token, clerk.token]) expect(await codeOf(new Client(() => h.base, t).call('me'))).toBe('NOT_SIGNED_IN');
  });
});

describe('the organisation', () => {
  const come = (name: string, password: string) => comeByOrganisation(h.base, name, password);

  it('lets in who is in one of its groups, with the role of the group, and nobody else', async () => {
    const body = {
      name: 'Kelmar Harbour',
      issuer: organisation.address,
      clientId: 'lithodex',
      groups: [
        { group: 'backup-administrators', role: 'administrator' as const },
        { group: 'backup-operators', role: 'operator' as const },
      ],
    };
    expect(await codeOf(admin.call('setOrganisation', { body }))).toBe('INVALID');
    expect(await codeOf(admin.call('setOrganisation', { body: { ...body, issuer: 'http://127.0.0.1:9', clientSecret: 'x' } }))).toBe(
      'ORGANISATION_FAILED',
    );
    await admin.call('setOrganisation', { body: { ...body, clientSecret: 'a secret between the two' } });
    expect(await fresh().call('signInWays')).toEqual({ organisation: 'Kelmar Harbour', selfService: false, nobodyYet: false });
    expect(JSON.stringify(await admin.call('signInSettings'))).not.toContain('between the two');
    const { client, page } = await come('tove.lund', 'fish');
    expect(page).toContain('url=/');
    expect(await client.call('me')).toMatchObject({ name: 'tove.lund', display: 'Tove Lund', role: 'operator' });
    const refused = await come('arne.moe', 'fowl');
    expect(refused.page).toContain('none%20of%20your%20groups');
    expect(await codeOf(refused.client.call('me'))).toBe('NOT_SIGNED_IN');
    organisation.members = [{ ...organisation.members[0]!, groups: ['backup-administrators'] }];
    const changed = await come('tove.lund', 'fish');
    expect(await changed.client.call('me')).toMatchObject({ role: 'administrator' });
    expect(await codeOf(client.call('me'))).toBe('NOT_SIGNED_IN');
    const id = (await changed.client.call('me')).id!;
    expect(await codeOf(fresh().signIn('tove.lund', ''))).toBe('INVALID');
    expect(await codeOf(fresh().signIn('tove.lund', 'fish'))).toBe('SIGN_IN_REFUSED');
    expect(await codeOf(admin.call('resetPerson', { id, body: {} }))).toBe('NOT_NOW');
    await admin.call('removePerson', { id });
    const barred = await come('tove.lund', 'fish');
    expect(barred.page).toContain('barred');
  });

  it('is not believed when it answers what was not asked', async () => {
    const answer = await fetch(`${h.base}/api/v1/session/organisation/back?code=x&state=y`);
    expect(await answer.text()).toContain('not%20begun%20here');
  });

  it('is told of in the trail, and the trail is whole', async () => {
    const { rows } = await admin.call('audit', { query: { limit: 500 } });
    const acts = new Set(rows.map((r) => r.action));
    for (const act of [
      'session.start',
      'session.refused',
      'session.secondRefused',
      'recovery.used',
      'password.change',
      'password.reset',
      'code.add',
      'person.reset',
      'token.rotate',
      'signIn.organisation',
      'person.add',
    ])
      expect(acts).toContain(act);
    expect(await admin.call('checkAudit')).toMatchObject({ intact: true });
  });
});
