import { spawn, type ChildProcess } from 'node:child_process';
import { createHash } from 'node:crypto';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { pairingNumber } from '@lithodex/contract';
import { Client, Harness } from '../support/harness';

let h: Harness;
let admin: Client;
const running: ChildProcess[] = [];

beforeAll(async () => {
  h = await Harness.start({ movers: 1 });
  admin = await h.withToken('administrator');
  await h.moverReady();
});
afterAll(async () => {
  for (const child of running) child.kill('SIGKILL');
  await h.stop();
});

const codeOf = (call: Promise<unknown>) =>
  call.then(
    () => 'OK',
    (e: unknown) => (e as { code: string }).code,
  );
const nobody = () => new Client(() => h.base);
const sumOf = (secret: string) => createHash('sha256').update(secret).digest('hex');
const asks = (mover: string, secret: string) => nobody().call('askToJoin', { body: { mover, sum: sumOf(secret) } });
const waiting = async () => (await admin.call('askingMovers')).rows;

describe('a mover that asks', () => {
  it('waits with a number that its own screen shows, is let in, and works with a token nobody else ever saw', async () => {
    const own = `${h.folder}/quay-2`;
    fs.mkdirSync(own);
    const args = ['--server', h.base, '--token-file', `${own}/token`, '--keys', `${own}/keys`, '--name', 'quay-2', '--log-level', 'silent'];
    const child = spawn(process.execPath, ['dist/node/mover.js', ...args], { stdio: ['ignore', 'ignore', 'pipe'] });
    running.push(child);
    let said = '';
    child.stderr.on('data', (d: Buffer) => (said += d.toString()));
    const until = async <T>(what: () => Promise<T | undefined> | T | undefined): Promise<T> => {
      for (const end = Date.now() + 60_000; ; await new Promise((resume) => setTimeout(resume, 50))) {
        const found = await what();
        if (found !== undefined) return found;
        if (Date.now() > end) throw new Error(`it never came: ${said}`);
      }
    };
    const row = await until(async () => (await waiting())[0]);
    expect(row).toMatchObject({ name: 'quay-2' });
    expect(said).toContain(`the number has to be ${row.number}`);
    expect((await admin.call('watch')).matters.map((m) => m.id)).toContain('asking-movers');
    expect(JSON.stringify(await waiting())).not.toContain(sumOf(fs.readFileSync(`${own}/token.asking`, 'utf8').trim()));
    await admin.call('admitMover', { id: row.id, body: { duties: ['capture', 'keep'] } });
    const known = await until(async () => (await admin.call('listMovers')).rows.find((m) => m.name === 'quay-2' && m.present));
    expect(known.duties).toEqual(['capture', 'keep']);
    expect(fs.statSync(`${own}/token`).mode & 0o77).toBe(0);
    expect(await waiting()).toEqual([]);
    expect((await admin.call('audit', { query: { q: 'mover.admit' } })).rows[0]!.detail).toMatch(/^capture keep; asked from /);
  });

  it('gets nothing while it waits, nor where it was refused', async () => {
    const secret = 'lxt_of-somebody-who-is-refused';
    expect(await asks('quay-3', secret)).toEqual({ state: 'waiting' });
    const impatient = new Client(() => h.base, secret);
    expect(await codeOf(impatient.call('me'))).toBe('NOT_SIGNED_IN');
    const [row] = await waiting();
    expect(row!.number).toBe(pairingNumber(sumOf(secret)));
    await admin.call('refuseMover', { id: row!.id });
    expect(await asks('quay-3', secret)).toEqual({ state: 'refused' });
    expect(await codeOf(admin.call('admitMover', { id: row!.id, body: { duties: ['keep'] } }))).toBe('NOT_FOUND');
    expect(await codeOf(impatient.call('me'))).toBe('NOT_SIGNED_IN');
  });

  it('does not come under the name of one that is known, floods nobody, and is forgotten when it stops asking', async () => {
    expect(await codeOf(asks('mover-1', 'lxt_x'))).toBe('NAME_TAKEN');
    expect(await codeOf(nobody().call('askToJoin', { body: { mover: 'x', sum: 'no sum' } }))).toBe('INVALID');
    await asks('quay-4', 'lxt_quay-4');
    await h.server.deps
      .db('mover_asking')
      .where({ name: 'quay-4' })
      .update({ seen_at: Date.now() - 3_600_000 });
    expect((await waiting()).map((r) => r.name)).toEqual([]);
    const many = Array.from({ length: 60 }, (_, i) => codeOf(asks(`flood-${i}`, `lxt_flood-${i}`)));
    const refused = (await Promise.all(many)).filter((c) => c !== 'OK');
    expect(refused.length).toBeGreaterThanOrEqual(9);
    expect((await waiting()).length).toBeLessThanOrEqual(51);
  });

  it.each(['operator', 'clerk', 'auditor'] as const)('is let in by no %s', async (role) => {
    const client = await h.withToken(role);
    const id = 'a'.repeat(32);
    expect(await codeOf(client.call('admitMover', { id, body: { duties: ['keep'] } }))).toBe('NOT_ALLOWED');
    expect(await codeOf(client.call('refuseMover', { id }))).toBe('NOT_ALLOWED');
  });
});
