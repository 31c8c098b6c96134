import { spawn } from 'node:child_process';
import fs from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { runCli } from '@lithodex/cli';
import { routes, type RouteName } from '@lithodex/contract';
import { Harness, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let profiles: string;
let source: string;
let back: string;
const env = () => ({ ...process.env, LITHODEX_PROFILES: profiles, NO_COLOR: '1' });

interface Ended {
  readonly status: number;
  readonly out: string;
  readonly err: string;
}
/** Runs a command line as a script does, in this process: a new one would take longer to start than most of them take. */
async function cliWith(more: Record<string, string>, ...args: string[]): Promise<Ended> {
  const said = { out: '', err: '' };
  const taking = (into: 'out' | 'err') => (text: string | Uint8Array) => {
    said[into] += String(text);
    return true;
  };
  for (const [name, value] of Object.entries({ LITHODEX_PROFILES: profiles, ...more })) vi.stubEnv(name, value);
  const spies = [
    vi.spyOn(process.stdout, 'write').mockImplementation(taking('out')),
    vi.spyOn(process.stderr, 'write').mockImplementation(taking('err')),
  ];
  try {
    return { status: await runCli(args), ...said };
  } finally {
    for (const spy of spies) spy.mockRestore();
    process.exitCode = undefined;
    vi.unstubAllEnvs();
  }
}
const cli = (...args: string[]) => cliWith({}, ...args);

/** Runs one at a terminal of its own: types each text once the last thing said fits. Gives all that was said, and how it ended. */
function atTerminal(args: readonly string[], typed: readonly (readonly [RegExp, string])[]): Promise<{ status: number; said: string }> {
  const command = [process.execPath, 'dist/node/cli.js', ...args].map((w) => `'${w}'`).join(' ');
  const child = spawn('script', ['--quiet', '--return', '--flush', '--command', command, '/dev/null'], {
    env: { ...env(), TERM: 'xterm' },
  });
  let said = '';
  let [from, at] = [0, 0];
  return new Promise((resolve, reject) => {
    const late = setTimeout(() => {
      child.kill('SIGKILL');
      reject(new Error(`it never said ${String(typed[at]?.[0])}:\n${said.slice(-2000)}`));
    }, 60_000);
    child.stdout.on('data', (data: Buffer) => {
      said += data.toString();
      const next = typed[at];
      // what moves the cursor and colours is left out
      if (!next?.[0].test(said.slice(from).replaceAll(/\u001b\[[\d;?]*[A-Za-z]/g, ''))) return;
      at++;
      from = said.length;
      child.stdin.write(next[1]);
    });
    child.on('exit', (status) => {
      clearTimeout(late);
      resolve({ status: status ?? -1, said });
    });
  });
}

beforeAll(async () => {
  h = await Harness.start({ movers: 1 });
  admin = await h.withToken('administrator');
  profiles = `${h.folder}/cli/profiles.json`;
  [source, back] = [`${h.folder}/office`, `${h.folder}/back`];
  fs.mkdirSync(`${source}/letters/2026`, { recursive: true });
  fs.mkdirSync(back);
  fs.writeFileSync(`${source}/letters/2026/pilot fees.txt`, 'forty crowns');
  fs.writeFileSync(`${source}/letters/plain.txt`, 'plain');
  fs.writeFileSync(`${source}/tariffs.ods`, 'tariffs');
  await h.moverReady();
  fs.writeFileSync(`${h.folder}/token`, `${admin.token!}\n`);
  const added = await cli('profile', 'add', 'harbour', '--address', h.base, '--token-file', `${h.folder}/token`);
  expect(added).toMatchObject({ status: 0, out: 'harbour is known: test administrator, administrator.\n' });
});
afterAll(() => h.stop());

describe('the command line', () => {
  it('makes an installation useful without a screen: target, source, policy from a file, first point', async () => {
    expect(
      (await cli('call', 'addTarget', 'name=quay-disk', `place={"kind":"folder","folder":"${h.folder}/disk"}`, 'location=Quay')).status,
    ).toBe(0);
    expect((await cli('targets', 'envelope', 'quay-disk', '--out', `${h.folder}/envelope.json`)).status).toBe(1);
    fs.writeFileSync(`${h.folder}/passphrase`, 'three lanterns on the mole\n');
    const envelope = await cli(
      'targets',
      'envelope',
      'quay-disk',
      '--out',
      `${h.folder}/envelope.json`,
      '--passphrase-file',
      `${h.folder}/passphrase`,
    );
    expect(envelope.status).toBe(0);
    expect(fs.statSync(`${h.folder}/envelope.json`).mode & 0o77).toBe(0);
    await cli('call', 'addSource', 'name=harbour-office', `folder=${source}`, 'location=Quay', 'kind=files');
    const draft = (target: string) =>
      [
        'format: lithodex policy 2',
        'name: Office, nightly',
        'workloads: [{ source: harbour-office, name: harbour-office }]',
        'tags: []',
        'zone: Europe/Oslo',
        'rules:',
        '  - kind: incremental',
        '    schedule: { every: day, at: "22:00" }',
        '    keep: { by: days, days: 7 }',
        `    target: ${target}`,
      ].join('\n');
    fs.writeFileSync(`${h.folder}/draft.yaml`, draft('moon-disk'));
    expect(await cli('policies', 'put', `${h.folder}/draft.yaml`, '--yes')).toMatchObject({ status: 1 });
    fs.writeFileSync(`${h.folder}/draft.yaml`, draft('quay-disk'));
    expect((await cli('policies', 'check', `${h.folder}/draft.yaml`)).out).toContain('It protects 1 workload: harbour-office.');
    const put = await cli('policies', 'put', `${h.folder}/draft.yaml`, '--yes');
    expect(put).toMatchObject({ status: 0 });
    expect(put.err).toContain('It runs next at');
  });

  it('tells what is there, as tables and as the API says it', async () => {
    const words = await cli('estate');
    expect(words.out).toMatch(/harbour-office\s+files\s+harbour-office\s+no point yet/);
    for (const [args, route] of [
      [['estate'], 'estate'],
      [['targets'], 'listTargets'],
      [['runs'], 'listRuns'],
      [['policies'], 'listPolicies'],
      [['people'], 'listPeople'],
      [['tokens'], 'listTokens'],
      [['movers'], 'listMovers'],
      [['requests'], 'listRequests'],
      [['audit'], 'audit'],
      [['audit', 'check'], 'checkAudit'],
      [['watch'], 'watch'],
      [['about'], 'about'],
      [['call', 'copiesMatrix'], 'copiesMatrix'],
    ] satisfies [string[], RouteName][]) {
      const { status, out, err } = await cli('--json', ...args);
      expect({ args, status, err }).toMatchObject({ err: '' });
      expect(routes[route].response.safeParse(JSON.parse(out)).success, args.join(' ')).toBe(true);
    }
  });

  it('protects, waits, and follows the log', async () => {
    const run = await cli('runs', 'start', '--policy', 'Office', '--wait');
    expect(run.out).toMatch(/^Run \d+, .*: done after/);
    expect(run.status).toBe(0);
    const no = /Run (\d+)/.exec(run.out)![1]!;
    expect((await cli('runs', 'log', no, '--follow')).out.split('\n').length).toBeGreaterThan(1);
    expect((await cli('points', 'harbour-office')).out).toMatch(/quay-disk/);
    expect((await cli('find', 'pilot')).out).toMatch(/letters\/2026\/pilot fees\.txt/);
  });

  it('brings back by arguments, with an exit status that tells', async () => {
    const planned = await cli('restore', 'harbour-office', '--path', 'letters', '--to', back, '--plan');
    expect(planned.out).toContain('harbour-office /letters');
    expect(fs.readdirSync(back)).toEqual([]);
    const done = await cli('restore', 'harbour-office', '--path', 'letters', '--to', back, '--reason', 'for a test', '--yes');
    expect(done).toMatchObject({ status: 0 });
    expect(done.out).toContain(`It is at (what exists is left as it is):\n  ${back}`);
    const places = fs.readdirSync(back, { recursive: true, encoding: 'utf8' }).filter((f) => f.endsWith('pilot fees.txt'));
    expect(fs.readFileSync(path.join(back, places[0]!), 'utf8')).toBe('forty crowns');

    const zip = await cli(
      'restore',
      '--name',
      'tariffs.ods',
      '--to',
      'zip',
      '--out',
      `${h.folder}/tariffs.zip`,
      '--reason',
      'for a test',
      '--yes',
    );
    expect(zip.status).toBe(0);
    expect(fs.readFileSync(`${h.folder}/tariffs.zip`).subarray(0, 2).toString()).toBe('PK');

    fs.writeFileSync(`${h.folder}/list`, `${source}/letters/plain.txt\n/nowhere/at-all\n`);
    const listed = await cli('restore', '--paths-file', `${h.folder}/list`, '--to', `${back}/list`, '--reason', 'for a test', '--yes');
    expect(listed.err).toContain('Nothing is known of /nowhere/at-all');
    expect(listed.status).toBe(0);

    for (const [args, status, why] of [
      [['restore', 'harbour-office', '--path', 'letters', '--to', back, '--yes'], 2, '--reason'],
      [['restore', 'harbour-office', '--moment', '2001-01-01', '--yes', '--reason', 'x y z'], 1, 'no point of then'],
      [['restore', 'nobody', '--yes', '--reason', 'x y z'], 1, 'There is no workload "nobody"'],
      [['restore', '--run', '1', '--to', 'moon', '--yes', '--reason', 'x y z'], 2, 'is no destination'],
      [['restore', 'harbour-office', '--to', back, '--reason', 'x y z', '--path', 'letters'], 1, 'Nobody is here to be asked'],
      [['restore'], 2, 'Say what is to come back'],
    ] as const) {
      const refused = await cli(...args);
      expect({ args, status: refused.status }).toEqual({ args, status });
      expect(refused.err).toContain(why);
    }
  });

  it('brings back by the keyboard alone, at a terminal', async () => {
    const to = `${h.folder}/by-hand`;
    const { status, said } = await atTerminal(
      ['restore'],
      [
        [/How do you find/, '\u001b[B\r'],
        [/Workload/, 'harbour-office\r'],
        [/As of when/, '\r'],
        [/> $/, 'ls\r'],
        [/tariffs\.ods[\s\S]*> $/, 'cd letters/2026\r'],
        [/letters\/2026> $/, 'tick "pilot fees.txt"\r'],
        [/1 ticked[\s\S]*> $/, 'tick ../plain.txt\r'],
        [/2 ticked[\s\S]*> $/, 'untick ../plain.txt\r'],
        [/1 ticked[\s\S]*> $/, 'cd ../../..\r'],
        [/\/> $/, 'cd nowhere\r'],
        [/There is no \/nowhere[\s\S]*> $/, `to ${to}\r`],
        [/goes to the folder[\s\S]*> $/, 'exists replace\r'],
        [/is replaced[\s\S]*> $/, 'start wanted by the pilots\r'],
        [/Start it\?/, 'y\r'],
      ],
    );
    expect(said).toContain('It is at');
    expect(status).toBe(0);
    const found = fs.readdirSync(to, { recursive: true, encoding: 'utf8' }).filter((f) => f.endsWith('.txt'));
    expect(found.map((f) => path.basename(f))).toEqual(['pilot fees.txt']);
    const rows = (await admin.call('audit', { query: { q: 'restore.start', limit: 1 } })).rows;
    expect(rows[0]!.detail).toContain('wanted by the pilots');
  });

  it('is left without changing anything', async () => {
    const left = await atTerminal(
      ['restore', 'harbour-office'],
      [
        [/> $/, 'tick .\r'],
        [/1 ticked[\s\S]*> $/, 'quit\r'],
      ],
    );
    expect(left.status).toBe(1);
    expect(left.said).toContain('Nothing was changed');
    const gone = await atTerminal(['restore'], [[/How do you find/, '\u0003']]);
    expect(gone.status).toBe(1);
  });

  it('writes policies down, checks, compares and puts them in force', async () => {
    const written = (await cli('policies', 'export', 'Office')).out;
    fs.writeFileSync(`${h.folder}/policy.yaml`, written);
    expect(await cli('policies', 'compare', `${h.folder}/policy.yaml`)).toMatchObject({ status: 0, out: 'They say the same.\n' });
    fs.writeFileSync(`${h.folder}/policy.yaml`, written.replace('Office, nightly', 'Office, twice'));
    expect((await cli('policies', 'check', `${h.folder}/policy.yaml`)).out).toContain('It protects 1 workload: harbour-office.');
    expect(await cli('policies', 'put', `${h.folder}/policy.yaml`)).toMatchObject({ status: 1 });
    expect((await cli('policies', 'put', `${h.folder}/policy.yaml`, '--yes')).out).toContain('Office, twice is in force');
    expect((await cli('policies')).out).toMatch(/Office, twice\s+1/);
  });

  it('is held to the role of its token', async () => {
    const { token } = await admin.call('addToken', { body: { name: 'look', role: 'auditor' } });
    const asAuditor = (...args: string[]) => cliWith({ LITHODEX_ADDRESS: h.base, LITHODEX_TOKEN: token }, ...args);
    expect((await asAuditor('audit', 'check')).status).toBe(0);
    expect(await asAuditor('--json', 'runs', 'start', '--workload', 'harbour-office')).toMatchObject({ status: 1 });
    expect(JSON.parse((await asAuditor('--json', 'runs', 'start', '--workload', 'harbour-office')).err)).toMatchObject({
      code: 'NOT_ALLOWED',
    });
  });
});
