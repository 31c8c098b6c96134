import { execFile } from 'node:child_process';
import { readFileSync } from 'node:fs';
import net from 'node:net';
import { promisify } from 'node:util';
import { describe, expect, it } from 'vitest';
import { zoneByDay } from './harbour-zone.mjs';
import { freePort } from './mariadb.mjs';

const run = promisify(execFile);
const lithodex = async (...args: string[]): Promise<{ code: number; out: string; err: string }> =>
  run('./lithodex', args).then(
    ({ stdout, stderr }) => ({ code: 0, out: stdout, err: stderr }),
    (e: unknown) => {
      const { code, stdout, stderr } = e as { code: number; stdout: string; stderr: string };
      return { code, out: stdout, err: stderr };
    },
  );

describe('the launcher', () => {
  it('says what it can do, from any folder', async () => {
    const { stdout: out } = await run('bash', ['-c', `cd / && ${process.cwd()}/lithodex help`]);
    for (const command of ['demo', 'start', 'test', 'bench', 'token', 'mover']) expect(out).toContain(`./lithodex ${command}`);
  });

  it.each([
    [['dance'], 2, 'There is no command "dance"'],
    [['start', '--config', '/nowhere.json'], 1, '/nowhere.json is not there'],
    [['start', '--port', '0x1', '--state', '/nowhere'], 1, '--port takes a port'],
    [['install', '--redirect-port', '99999'], 1, '--redirect-port takes a port'],
    [['mover', '--server', 'https://lithodex.harbour', '--authority', '/nowhere.pem'], 1, '--authority names a file'],
    [['demo', '--prot', '1'], 1, '--prot'],
    [['test', 'everything'], 1, 'There is no kind of test "everything"'],
    [['token', '--role', 'king', '--name', 'x', '--state', '/nowhere'], 1, ''],
    [['medium', '--server', 'http://lithodex.harbour', '--code', 'lxu_x', '--out', '/tmp/x.iso'], 1, 'begins with https://'],
    [['medium', '--server', 'https://lithodex.harbour', '--out', '/tmp/x.iso'], 1, '--code'],
    [['medium', '--server', "https://x';reboot'", '--code', 'lxu_x', '--out', '/tmp/x.iso'], 1, '--server'],
  ])('refuses %j with a reason', async (args, code, reason) => {
    const result = await lithodex(...args);
    expect(result.code).toBe(code);
    expect(result.err).toContain(reason);
    expect(result.err).not.toContain('    at ');
  });

  it('counts the share of tests', async () => {
    const { out } = await lithodex('test', '--ratio');
    expect(out).toMatch(/^Tests are \d+\.\d % of \d+ code lines/);
  });

  it('takes the port that is wanted, or another when it is taken', async () => {
    const wanted = await freePort();
    expect(await freePort(wanted)).toBe(wanted);
    const taken = net.createServer();
    await new Promise<void>((resume) => taken.listen(wanted, '127.0.0.1', resume));
    const other = await freePort(wanted);
    expect(other).not.toBe(wanted);
    expect(other).toBeGreaterThan(0);
    taken.close();
  });

  it('lets the demo lie where it is day, whenever it is first started', () => {
    for (let hour = 0; hour < 53 * 24; hour++) {
      // an hour of the day in each week of a year
      const now = new Date(Date.UTC(2027, 0, 1 + 7 * Math.floor(hour / 24), hour % 24, 30));
      const local = Number(new Intl.DateTimeFormat('en', { timeZone: zoneByDay(now), hour: 'numeric', hourCycle: 'h23' }).format(now));
      expect(local).toBeGreaterThanOrEqual(5);
      expect(local).toBeLessThan(20);
    }
  });

  it('serves the chart library where the application looks for it', () => {
    const { version } = JSON.parse(readFileSync('node_modules/plotly.js-cartesian-dist-min/package.json', 'utf8')) as { version: string };
    expect(readFileSync('packages/web/src/app/ui/plot.ts', 'utf8')).toContain(`'plotly-${version}/plotly-cartesian.min.js'`);
  });
});
