import fs from 'node:fs';
import fc from 'fast-check';
import { roles, routes, type Role, type Route, type RouteName } from '@lithodex/contract';
import { checkAudit } from '@lithodex/server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Client, Harness, passwords, policyFor } from '../support/harness';

let h: Harness;
const as = {} as Record<Role | 'mover' | 'nobody', Client>;
const names = Object.keys(routes) as RouteName[];
const accessOf = (name: RouteName) => (routes[name] as Route).access;

beforeAll(async () => {
  h = await Harness.start({ movers: 0, leaseMs: 60_000 });
  for (const role of roles) as[role] = await h.withToken(role);
  as.mover = await h.withToken('mover');
  as.nobody = new Client(() => h.base);
});
afterAll(() => h.stop());

/** Routes that wait for somebody: who is let in may have to be waited for no longer than this. */
const waiting: readonly RouteName[] = ['events', 'claim', 'questions', 'stream', 'download'];

/** Routes of one's own account: for people who are signed in, or on their way in, never for a token. */
const own: readonly RouteName[] = [
  'askPasskey',
  'ownAccount',
  'offerCode',
  'dropCode',
  'newRecoveryCodes',
  'offerPasskey',
  'dropPasskey',
  'endOtherSessions',
];

async function codeOf(client: Client, name: RouteName, allowed: boolean): Promise<string> {
  const call = client.fetch(name, {
    id:
      (routes[name] as Route).path.includes('points') ||
      (routes[name] as Route).path.includes('mover') ||
      (routes[name] as Route).path.startsWith('/targets/:id')
        ? '00000000-0000-0000-0000-000000000000'
        : 999_999,
    ...((routes[name] as Route).method === 'get' ? {} : { body: {} }),
  });
  const answer =
    waiting.includes(name) && allowed
      ? await Promise.race([call, new Promise<undefined>((resume) => setTimeout(resume, 400))])
      : await call;
  if (!answer) return 'WAITS';
  if (answer.ok) {
    void answer.body?.cancel();
    return 'OK';
  }
  return ((await answer.json()) as { code: string }).code;
}

describe('every route', () => {
  it.each(names)('%s lets in exactly the roles its row in the table names', async (name) => {
    const access = accessOf(name);
    for (const who of [...roles, 'mover', 'nobody'] as const) {
      const oneself = own.includes(name);
      const allowed = oneself
        ? who !== 'mover' && who !== 'nobody'
        : access === 'anyone' || (access === 'mover' ? who === 'mover' : (access as readonly string[]).includes(who));
      if (oneself) expect(['NOT_ALLOWED', 'NOT_SIGNED_IN'], `a token of ${who}`).toContain(await codeOf(as[who], name, false));
      const code = await codeOf(oneself && who !== 'mover' && who !== 'nobody' ? await h.as(who) : as[who], name, allowed);
      const refused = ['NOT_ALLOWED', 'NOT_SIGNED_IN'].includes(code);
      expect([who, refused], `${name} as ${who}: ${code}`).toEqual([who, !allowed]);
      if (who === 'nobody' && !allowed) expect(code).toBe('NOT_SIGNED_IN');
    }
  });

  it('answers fuzzed bodies, queries and paths with a client error that has a code, never with a server error', async () => {
    const fuzzed = names.filter((n) => !waiting.includes(n) && n !== 'signIn' && accessOf(n) !== 'mover');
    const value = fc.oneof(fc.jsonValue(), fc.constantFrom('', '\u0000', '%00', '../../etc', -1, 1e308, null, [], {}, 'a'.repeat(5000)));
    await fc.assert(
      fc.asyncProperty(
        fc.constantFrom(...fuzzed),
        value,
        fc.dictionary(
          fc.constantFrom('name', 'folder', 'picks', 'path', 'q', 'cursor', 'limit', 'sort', 'workloads', 'body', 'reason'),
          value,
          { maxKeys: 5 },
        ),
        fc.oneof(fc.integer(), fc.string({ minLength: 1, maxLength: 30 })),
        async (name, body, parts, id) => {
          const method = (routes[name] as Route).method;
          // the tokens and people that the other tests need stay
          const spared = (name === 'removeToken' || name === 'removePerson') && typeof id === 'number';
          const answer = await as.administrator.fetch(name, {
            id: spared ? 1_000_000 + Math.abs(id) : String(id).replace(/[/?#.]/g, '_') || '1',
            ...(method === 'get' ? { query: parts } : { body: fc.stringify(body).length % 2 ? body : parts }),
          });
          const text = await answer.text();
          expect(answer.status, `${name}: ${text}`).toSatisfy((s: number) => s < 500 || s === 503);
          if (!answer.ok) expect((JSON.parse(text) as { code?: string }).code).toMatch(/^[A-Z_]+$/);
        },
      ),
      { numRuns: 400 },
    );
  });

  it.each(names.filter((n) => accessOf(n) === 'mover' && !waiting.includes(n)))('%s refuses what no mover would send', async (name) => {
    for (const body of [{}, { attempt: 'x' }, [], 'text', { attempt: 1, seq: 0, changes: [{ change: 'added' }] }]) {
      const answer = await as.mover.fetch(name, { id: '00000000-0000-0000-0000-000000000000', body });
      expect(answer.status).toSatisfy((s: number) => (s >= 400 && s < 500) || (name === 'answer' && s === 200));
    }
  });

  it('answers broken JSON and bodies that are too large with a code', async () => {
    const broken = await as.administrator.fetch('addPolicy', { body: '{"name": ' });
    expect([broken.status, ((await broken.json()) as { code: string }).code]).toEqual([400, 'INVALID']);
    const large = await as.administrator.fetch('addPolicy', { body: JSON.stringify({ name: 'x'.repeat(2 << 20) }) });
    expect(large.status).toBe(413);
    const unknown = await fetch(`${h.base}/api/v1/nothing`);
    expect([unknown.status, ((await unknown.json()) as { code: string }).code]).toEqual([404, 'NOT_FOUND']);
  });
});

describe('signing in', () => {
  it('gives a session that only works with its token for changes', async () => {
    const client = await h.as('administrator');
    const me = await client.call('me');
    expect(me).toMatchObject({ name: 'administrator', role: 'administrator' });
    const answer = await client.fetch('addToken', { body: { name: 'x', role: 'auditor' }, headers: { 'x-lithodex-csrf': 'wrong' } });
    expect(((await answer.json()) as { code: string }).code).toBe('CSRF_MISSING');
    await client.call('signOut');
    await expect(client.call('me')).rejects.toMatchObject({ code: 'NOT_SIGNED_IN' });
  });

  it('sets a cookie that scripts and other sites can not use', async () => {
    const answer = await new Client(() => h.base).fetch('signIn', { body: { name: 'auditor', password: passwords.auditor } });
    expect(answer.headers.getSetCookie()[0]).toMatch(/HttpOnly.*SameSite=Strict/i);
    expect(await answer.text()).not.toMatch(/hash|scrypt/);
  });

  it('refuses wrong passwords, barred people and, after many tries, everybody', async () => {
    const client = new Client(() => h.base);
    const admin = as.administrator;
    const { id } = await admin.call('addPerson', {
      body: { name: 'temp.person', display: 'Temp', role: 'auditor', password: 'long enough password' },
    });
    await h.server.deps.db('person').where({ id }).update({ must_change: false });
    await client.signIn('temp.person', 'long enough password');
    await admin.call('removePerson', { id });
    const administrator = (await admin.call('listPeople')).rows.find((p) => p.role === 'administrator')!;
    await expect(admin.call('removePerson', { id: administrator.id })).rejects.toThrow('last administrator');
    await expect(client.call('me')).rejects.toMatchObject({ code: 'NOT_SIGNED_IN' });
    let code = '';
    for (let i = 0; i < 25 && code !== 'TOO_MANY_TRIES'; i++)
      code = await client.signIn('administrator', 'wrong password').then(
        () => 'OK',
        (e: unknown) => (e as { code: string }).code,
      );
    expect(code).toBe('TOO_MANY_TRIES');
  });
});

describe('the audit trail', () => {
  it('holds every change and breaks visibly when a row is altered, even by one who may write to the database', async () => {
    const { db } = h.server.deps;
    await as.administrator.call('addToken', { body: { name: 'counting', role: 'auditor' } });
    const { rows } = await as.auditor.call('audit', { query: { q: 'counting' } });
    expect(rows[0]).toMatchObject({ action: 'token.add', object: 'token counting' });
    expect((await as.auditor.call('checkAudit')).intact).toBe(true);
    await expect(db('audit').where({ seq: 2 }).update({ actor: 'nobody' })).rejects.toThrow(/never changed/);
    await expect(db('audit').where({ seq: 2 }).delete()).rejects.toThrow(/never removed/);
    await db.raw('DROP TRIGGER audit_keeps_rows');
    await db('audit').where({ seq: 2 }).update({ actor: 'nobody' });
    expect(await checkAudit(db)).toMatchObject({ intact: false, broken: [2], cutShort: false });
  });
});

describe('secrets', () => {
  it('are not in the database in the clear, and not in any answer', async () => {
    const { db } = h.server.deps;
    const people = await db('person').select<{ password_hash: string }[]>('password_hash');
    expect(people.every((p) => p.password_hash.startsWith('scrypt$'))).toBe(true);
    const tokens = JSON.stringify(await db('api_token').select());
    expect(tokens).not.toContain(fs.readFileSync(`${h.folder}/mover-token`, 'utf8').slice(4));
    expect(JSON.stringify(await as.administrator.call('listTokens'))).not.toMatch(/hash|lxt_/);
  });
});

describe('a clerk', () => {
  it('sees and restores only within the remit, and only to the original place', async () => {
    h.startMover('late-mover');
    await h.moverReady();
    const own = await h.connect(as.administrator, 'own-server');
    const other = await h.connect(as.administrator, 'other-server');
    for (const c of [own, other]) fs.writeFileSync(`${c.source}/letter.txt`, 'x');
    const { id } = await as.administrator.call('addPolicy', { body: policyFor([own.workloadId, other.workloadId], own.targetId) });
    await as.administrator.ended((await as.administrator.call('runPolicy', { id, body: {} })).runId);
    await h.server.deps
      .db('person')
      .where({ name: 'clerk' })
      .update({ remit: JSON.stringify([own.workloadId]) });
    const clerk = new Client(() => h.base);
    await h.server.close();
    await h.startServer();
    await clerk.signIn('clerk', passwords.clerk);
    expect((await clerk.call('estate')).workloads.map((w) => w.name)).toEqual(['own-server']);
    await expect(clerk.call('workload', { id: other.workloadId })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    const point = (await clerk.call('workload', { id: own.workloadId })).pointList[0]!;
    const foreign = (await as.administrator.call('workload', { id: other.workloadId })).pointList[0]!;
    await expect(clerk.call('tree', { id: foreign.id })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    expect((await clerk.call('search', { query: { q: 'letter' } })).rows.map((r) => r.workload.name)).toEqual(['own-server']);
    const restore = (
      pointId: string,
      destination: { to: 'original' } | { to: 'folder'; folder: string } | { to: 'download'; format: 'tar' },
    ) => clerk.call('startRestore', { body: { picks: [{ pointId, path: 'letter.txt' }], destination, reason: 'asked for' } });
    await expect(restore(foreign.id, { to: 'original' })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    await expect(restore(point.id, { to: 'folder', folder: `${h.folder}/out` })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect(restore(point.id, { to: 'download', format: 'tar' })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await h.moverReady();
    const run = await clerk.ended((await restore(point.id, { to: 'original' })).runId);
    expect(run).toMatchObject({ state: 'done', by: 'clerk', reason: 'asked for' });
    expect((await clerk.call('listRuns')).rows.every((r) => r.by === 'clerk' || r.workloads.some((w) => w.name === 'own-server'))).toBe(
      true,
    );
  });
});

it('describes itself as OpenAPI 3.1 with every route', async () => {
  const doc = (await (await fetch(`${h.base}/api/openapi.json`)).json()) as {
    openapi: string;
    paths: Record<string, Record<string, { operationId: string }>>;
  };
  expect(doc.openapi).toBe('3.1.0');
  const ids = Object.values(doc.paths).flatMap((p) => Object.values(p).map((o) => o.operationId));
  expect(ids.sort()).toEqual([...names].sort());
  expect(await (await fetch(`${h.base}/api/docs`)).text()).toContain('POST /api/v1/restores');
});
