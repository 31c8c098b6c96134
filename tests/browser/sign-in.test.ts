import path from 'node:path';
import { OrganisationService } from '@lithodex/standins';
import { TOTP } from 'otpauth';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Visitor } from '../support/browser';
import { Harness, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let organisation: OrganisationService;
const password = 'seven crooked bollards';

beforeAll(async () => {
  h = await Harness.start({ movers: 0, webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  // passkeys are for names, so the page is reached by one
  const { port } = new URL(h.base);
  organisation = new OrganisationService({
    clientId: 'lithodex',
    clientSecret: 'between the two',
    redirects: [`http://localhost:${port}/api/v1/session/organisation/back`],
    members: [{ name: 'tove.lund', display: 'Tove Lund', password: 'fish', groups: ['backup-operators'] }],
  });
  await organisation.start();
});
afterAll(async () => {
  await organisation.stop();
  await h.stop();
});

async function visitor(): Promise<Visitor> {
  return Visitor.arrive(h.base.replace('127.0.0.1', 'localhost'));
}

describe('signing in at a browser', () => {
  it('sets up codes on the way in where a role needs a second factor, and asks for one from then on', async () => {
    await admin.call('setSignInRules', { body: { secondFor: ['administrator'], idleMinutes: 60 } });
    await admin.call('addPerson', { body: { name: 'nina.holt', display: 'Nina Holt', role: 'administrator', password } });
    const nina = await visitor();
    try {
      await nina.open('/sign-in');
      await nina.type('Name', 'nina.holt');
      await nina.type('Password', password);
      await nina.press('Sign in');
      await nina.press('Set up codes by an authenticator');
      await nina.sees('Let an authenticator read this picture');
      const secret = await nina.page.$eval('code', (e) => e.textContent);
      const codeAt = (ahead: number) => new TOTP({ secret }).generate({ timestamp: Date.now() + 30_000 * ahead });
      await nina.type('Code it shows', codeAt(0));
      await nina.press('Use it from now on');
      await nina.sees('recovery codes');
      await nina.press('I have kept them');
      await nina.sees('Choose a password that only you know');
      await nina.type('New password', 'password1234');
      await nina.press('Go on');
      await nina.sees('too easy to guess');
      await nina.type('New password', 'nine drifting lighters');
      await nina.press('Go on');
      await nina.sees('Nothing was due last night');
      await nina.forgetsCookies();
      await nina.open('/sign-in');
      await nina.type('Name', 'nina.holt');
      await nina.type('Password', 'nine drifting lighters');
      await nina.press('Sign in');
      await nina.sees('Show a second factor');
      await nina.type('Code of the authenticator', codeAt(1));
      await nina.press('Go on');
      await nina.sees('Nothing was due last night');
      expect(nina.problems).toEqual([]);
    } finally {
      await nina.leave();
      await admin.call('setSignInRules', { body: { secondFor: [], idleMinutes: 60 } });
    }
  });

  it('takes a passkey in the place of a code', async () => {
    const { id } = await admin.call('addPerson', { body: { name: 'otto.berg', display: 'Otto Berg', role: 'operator', password } });
    await h.server.deps.db('person').where({ id }).update({ must_change: false });
    const otto = await visitor();
    try {
      const devices = await otto.page.createCDPSession();
      await devices.send('WebAuthn.enable');
      await devices.send('WebAuthn.addVirtualAuthenticator', {
        options: { protocol: 'ctap2', transport: 'internal', hasResidentKey: true, hasUserVerification: true, isUserVerified: true },
      });
      await otto.signIn('otto.berg', password);
      await otto.open('/account');
      await otto.press('Set one up');
      await otto.type('Name of the passkey', 'laptop');
      await otto.press('Make a passkey');
      await otto.sees('Passkey laptop');
      await otto.forgetsCookies();
      await otto.open('/sign-in');
      await otto.type('Name', 'otto.berg');
      await otto.type('Password', password);
      await otto.press('Sign in');
      await otto.press('Use a passkey');
      await otto.page.waitForFunction(() => !location.pathname.startsWith('/sign-in'));
      await otto.sees('Nothing was due last night');
      const { rows } = await admin.call('listPeople');
      expect(rows.find((p) => p.id === id)).toMatchObject({ second: 'passkey' });
      expect(otto.problems).toEqual([]);
    } finally {
      await otto.leave();
    }
  });

  it('goes by the organisation and comes back signed in', async () => {
    await admin.call('setOrganisation', {
      body: {
        name: 'Kelmar Harbour',
        issuer: organisation.address,
        clientId: 'lithodex',
        clientSecret: 'between the two',
        groups: [{ group: 'backup-operators', role: 'operator' }],
      },
    });
    const tove = await visitor();
    try {
      await tove.open('/runs');
      await tove.press('Sign in by Kelmar Harbour');
      await tove.sees('Organisation stand-in');
      await tove.page.type('input[name=name]', 'tove.lund');
      await tove.page.type('input[name=password]', 'fish');
      await tove.page.click('button');
      await tove.page.waitForFunction(() => location.pathname === '/runs');
      await tove.sees('Runs');
      expect((await admin.call('listPeople')).rows.find((p) => p.name === 'tove.lund')).toMatchObject({
        role: 'operator',
        organisation: true,
      });
      expect(tove.problems).toEqual([]);
    } finally {
      await tove.leave();
    }
  });

  it('asks once more before people are changed, and goes on with what was asked for', async () => {
    const { id } = await admin.call('addPerson', { body: { name: 'lena.fjord', display: 'Lena Fjord', role: 'administrator', password } });
    const { db } = h.server.deps;
    await db('person').where({ id }).update({ must_change: false });
    const lena = await visitor();
    try {
      await lena.signIn('lena.fjord', password);
      const row = await db('session').where({ person_id: id }).first<{ sid: string; data: string | object }>();
      const data = (typeof row.data === 'string' ? JSON.parse(row.data) : row.data) as object;
      await db('session')
        .where({ sid: row.sid })
        .update({ data: JSON.stringify({ ...data, confirmedAt: 0 }) });
      await lena.open('/trust/tokens');
      await lena.press('Issue an API token');
      await lena.type('What it is for', 'nightly report');
      await lena.press('Issue');
      await lena.sees('Show once more who you are');
      await lena.type('Password', password);
      await lena.press('Go on');
      await lena.sees('This is shown once');
      expect(lena.problems).toEqual([]);
    } finally {
      await lena.leave();
    }
  });
});
