import http from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { issueToken } from '@lithodex/server';
import { Harness, policyFor, type Client } from '../support/harness';

let here: Harness;
let there: Harness;
let admin: Client;
let token: string;
let id: number;
const tokenOf = (role: 'auditor' | 'operator') => issueToken(there.server.deps, `overview ${role}`, role, 'setup');
const body = (more: object = {}) => ({ name: 'lighthouse', url: there.base, token, ...more });

beforeAll(async () => {
  here = await Harness.start({});
  there = await Harness.start({});
  admin = await here.as('administrator');
  const remote = await there.as('administrator');
  const { workloadId, targetId } = await there.connect(remote);
  await remote.call('addPolicy', { body: policyFor([workloadId], targetId) });
  token = await tokenOf('auditor');
}, 90_000);
afterAll(async () => {
  await here.stop();
  await there.stop();
});

describe('several installations in one view', () => {
  it('takes a token that only reads, of an installation that answers', async () => {
    await expect(admin.call('addInstallation', { body: body({ token: 'wrong' }) })).rejects.toMatchObject({ code: 'CONNECTION_FAULTY' });
    const more = await tokenOf('operator');
    await expect(admin.call('addInstallation', { body: body({ token: more }) })).rejects.toThrow('may do more than read');
    await expect(admin.call('addInstallation', { body: body({ url: 'http://127.0.0.1:9' }) })).rejects.toThrow('does not answer');
    await expect(admin.call('addInstallation', { body: body({ url: 'http://169.254.169.254' }) })).rejects.toMatchObject({
      code: 'CONNECTION_FAULTY',
    });
    ({ id } = await admin.call('addInstallation', { body: body() }));
    await expect(admin.call('addInstallation', { body: body() })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    const { rows } = await admin.call('overview');
    expect(rows.map((r) => [r.name, r.trouble])).toEqual([
      ['this one', ''],
      ['lighthouse', ''],
    ]);
    expect(rows[1]!.state).toMatchObject({ all: 1, targets: [{ name: expect.any(String) }] });
    expect(Math.abs(rows[1]!.clockAhead)).toBeLessThan(10_000);
    expect(JSON.stringify([rows, await admin.call('audit', { query: {} })])).not.toContain(token);
  });

  it('keeps the token to its address, and is for readers to see and administrators to change', async () => {
    await expect(admin.call('changeInstallation', { id, body: body({ url: 'http://127.0.0.1:9', token: null }) })).rejects.toMatchObject({
      code: 'INVALID',
    });
    await admin.call('changeInstallation', { id, body: body({ name: 'lighthouse station', token: null }) });
    const clerk = await here.as('clerk');
    await expect(clerk.call('overview')).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    const operator = await here.as('operator');
    expect((await operator.call('overview')).rows).toHaveLength(2);
    await expect(operator.call('removeInstallation', { id })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  });

  it('tells what is no installation, and what answers without end', async () => {
    const stranger = http.createServer((_, response) => {
      response.writeHead(200, { 'content-type': 'application/json' });
      const pour = () => {
        while (response.write('[1,2,3],'.repeat(8192))) continue;
        response.once('drain', pour);
      };
      pour();
    });
    await new Promise<void>((resume) => stranger.listen(0, '127.0.0.1', resume));
    const url = `http://127.0.0.1:${(stranger.address() as AddressInfo).port}`;
    await expect(admin.call('addInstallation', { body: body({ name: 'stranger', url }) })).rejects.toMatchObject({
      code: 'CONNECTION_FAULTY',
    });
    stranger.closeAllConnections();
    stranger.close();
  });

  it('shows what an installation said last once it is silent, and why, and is a matter after a while', async () => {
    const said = (await admin.call('overview')).rows[1]!;
    await there.server.close();
    await here.server.deps.db('installation').update({ tried_at: 0 });
    const [own, silent] = (await admin.call('overview')).rows;
    expect(own!.trouble).toBe('');
    expect(silent).toMatchObject({ trouble: 'It does not answer.', state: said.state, at: said.at });
    await here.server.deps.db('installation').update({ answered_at: 1000 });
    const matters = (await admin.call('watch', { query: {} })).matters.map((m) => m.title);
    expect(matters).toContain('The installation lighthouse station can not be looked at');
    await admin.call('removeInstallation', { id });
    expect((await admin.call('overview')).rows).toHaveLength(1);
  });
});
