import fs from 'node:fs';
import http from 'node:http';
import os from 'node:os';
import path from 'node:path';
import fc from 'fast-check';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { routes, type Route, type RouteName } from '@lithodex/contract';
import { sentBy } from './commands/call';
import { completionFor } from './completion';
import { atOf, instantOf } from './moments';
import { profileOf, readProfiles, writeProfiles } from './profiles';
import { programOf, runCli } from './program';
import { destinationOf } from './restore/picked';
import { pathFrom, wordsOf } from './restore/walk';
import { Server } from './server';
import { table } from './table';
import { unasked } from './unasked';

const folder = fs.mkdtempSync(path.join(os.tmpdir(), 'lithodex-cli-'));
afterEach(() => {
  vi.unstubAllEnvs();
});

describe('moments', () => {
  const now = Date.UTC(2026, 10, 30, 12);
  it.each([
    ['2026-11-30 03:00', '2026-11-30T02:00:00.000Z'],
    ['2026-07-01', '2026-06-30T22:00:00.000Z'],
    ['2026-11-30T03:00:00-05:00', '2026-11-30T08:00:00.000Z'],
    ['3d', '2026-11-27T12:00:00.000Z'],
    ['90m', '2026-11-30T10:30:00.000Z'],
  ])('are read as people type them (%s)', (text, instant) => {
    expect(new Date(instantOf(text, 'Europe/Oslo', now)).toISOString()).toBe(instant);
  });
  it('mean the end of a day where that is meant, and are refused where they are none', () => {
    expect(new Date(instantOf('2026-11-30', 'UTC', now, true)).toISOString()).toBe('2026-11-30T23:59:59.999Z');
    for (const none of ['yesterday', '2026-13-01', '', '3y']) expect(() => instantOf(none, 'UTC', now)).toThrow(/is no moment/);
  });
  it('can be typed again as they were told', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 4e12 }), (instant) => {
        const minute = instant - (instant % 60_000);
        expect(instantOf(atOf(minute, 'UTC'), 'UTC', now)).toBe(minute);
      }),
    );
  });
});

describe('walking', () => {
  it('goes up and down, never above the root', () => {
    expect(pathFrom('a/b', '..')).toBe('a');
    expect(pathFrom('a/b', '/c/./d')).toBe('c/d');
    expect(pathFrom('', '../../..')).toBe('');
    fc.assert(fc.property(fc.string(), fc.string(), (at, word) => !pathFrom(at, word).split('/').includes('..')));
  });
  it('takes words as a shell does', () => {
    expect(wordsOf(`tick "tide tables" 'it''s' plain\\ one a"b`)).toEqual(['tick', 'tide tables', 'it', 's', 'plain one', 'a', 'b']);
    fc.assert(
      fc.property(fc.array(fc.string({ minLength: 1 }).filter((w) => !/["\\\n]/.test(w))), (words) => {
        expect(wordsOf(words.map((w) => `"${w}"`).join(' '))).toEqual(words);
      }),
    );
  });
  it.each(['origin', 'srv/x', '', '{"to":'])('refuses %j as a destination', (text) => {
    expect(() => destinationOf(text)).toThrow();
  });
});

describe('what is told', () => {
  it('never holds what a terminal would take as a command', () => {
    const shown = table(['Name', '>Size'], [['evil\u001b[2J\u0007\u202ename', '12']]);
    expect(shown).not.toMatch(/[\u0007\u001b\u202e]/);
    expect(shown.split('\n')[1]).toMatch(/^evil.*12$/);
  });
});

describe('profiles', () => {
  const file = path.join(folder, 'deep', 'profiles.json');
  const made = { used: 'harbour', profiles: { harbour: { address: 'https://backup.harbour.example', token: 'lxt_secret' } } };
  it('are kept for this account only, and refused where others can read them', () => {
    writeProfiles(made, file);
    expect(fs.statSync(file).mode & 0o777).toBe(0o600);
    expect(readProfiles(file)).toEqual(made);
    fs.chmodSync(file, 0o644);
    expect(() => readProfiles(file)).toThrow(/can be read by others/);
    fs.chmodSync(file, 0o600);
    vi.stubEnv('LITHODEX_PROFILES', file);
    expect(profileOf().address).toBe('https://backup.harbour.example');
    expect(() => profileOf('lighthouse')).toThrow(/There is no profile "lighthouse"; there are harbour/);
    vi.stubEnv('LITHODEX_ADDRESS', 'http://127.0.0.1:1');
    vi.stubEnv('LITHODEX_TOKEN', 'lxt_other');
    expect(profileOf().token).toBe('lxt_other');
    expect(profileOf('harbour').token).toBe('lxt_secret');
  });
});

describe('routes', () => {
  it('each have a command, or a reason why not', () => {
    const names = Object.keys(routes) as RouteName[];
    const without = names.filter((n) => unasked(n) !== undefined);
    expect(names.length - without.length).toBeGreaterThan(150);
    const ofRoles = without.filter((n) => Array.isArray((routes[n] as Route).access));
    expect(ofRoles.sort()).toEqual(
      [
        'changePassword',
        'confirm',
        'dropCode',
        'dropPasskey',
        'endOtherSessions',
        'events',
        'newRecoveryCodes',
        'ownAccount',
        'signOut',
      ].sort(),
    );
  });
  it('take fields where they have such, and nothing else', () => {
    expect(sentBy('listRuns', ['limit=5', 'states=failed'], undefined)).toEqual({
      query: { limit: '5', states: 'failed' },
      body: undefined,
    });
    expect(sentBy('setLimits', ['id=x', 'writers=3', 'paces=[]'], undefined)).toEqual({
      id: 'x',
      query: {},
      body: { writers: 3, paces: [] },
    });
    expect(sentBy('holdPoint', ['id=x'], { reason: 'the lawsuit' }).body).toEqual({ reason: 'the lawsuit' });
    expect(() => sentBy('getRun', [], undefined)).toThrow(/needs id/);
    expect(() => sentBy('getRun', ['id=1', 'colour=red'], undefined)).toThrow(/takes id/);
    expect(() => sentBy('holdPoint', ['id=x', 'reason=a'], undefined)).toThrow(/does not fit/);
  });
});

describe('a server', () => {
  it('gets the token at its own address only, and is not believed where it answers something else', async () => {
    const seen: string[] = [];
    const other = http.createServer((req, res) => {
      seen.push(String(req.headers.authorization));
      res.end('{}');
    });
    await new Promise<void>((resume) => other.listen(0, '127.0.0.1', resume));
    const there = (other.address() as { port: number }).port;
    const answers: (() => { status: number; body: string })[] = [
      () => ({ status: 302, body: '' }),
      () => ({ status: 200, body: '<html>' }),
      () => ({ status: 200, body: '{"id":"not a number"}' }),
      () => ({ status: 500, body: '{"odd":true}' }),
      () => ({ status: 409, body: '{"code":"NOT_NOW","message":"Not now."}' }),
    ];
    const server = http.createServer((_req, res) => {
      const { status, body } = answers.shift()!();
      res.writeHead(status, { location: `http://127.0.0.1:${there}/`, 'content-type': 'application/json' }).end(body);
    });
    await new Promise<void>((resume) => server.listen(0, '127.0.0.1', resume));
    const called = Server.of({ address: `http://127.0.0.1:${(server.address() as { port: number }).port}`, token: 'lxt_secret' });
    const codes: unknown[] = [];
    for (let i = 0; i < 5; i++) codes.push(await called.call('me').catch((e: unknown) => (e as { code: string }).code));
    expect(codes).toEqual(['NOT_UNDERSTOOD', 'NOT_UNDERSTOOD', 'NOT_UNDERSTOOD', 'NOT_UNDERSTOOD', 'REFUSED']);
    expect(seen).toEqual([]);
    await called.close();
    server.close();
    other.close();
  });
});

describe('the program', () => {
  it('completes every command', () => {
    const script = completionFor(
      programOf(() => undefined),
      'bash',
    );
    for (const words of ['"runs") words="list show follow log stop retry start', '"policies") words="list export check compare put end'])
      expect(script).toContain(words);
  });

  it.each([
    [['dance'], 2],
    [['runs', 'show'], 2],
    [['--help'], 0],
    [['restore', '--exists', 'perhaps'], 2],
    [['profile', 'use', 'nowhere'], 2],
  ])('ends with a status that tells (%j)', async (args, status) => {
    vi.stubEnv('LITHODEX_PROFILES', path.join(folder, 'none.json'));
    const quiet = [vi.spyOn(process.stderr, 'write'), vi.spyOn(process.stdout, 'write')].map((s) => s.mockReturnValue(true));
    try {
      expect(await runCli(args)).toBe(status);
    } finally {
      for (const q of quiet) q.mockRestore();
    }
  });
});
