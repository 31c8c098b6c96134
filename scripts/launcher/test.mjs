// "./lithodex test": installs, builds, lints, runs the tests.
import { spawn, spawnSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { totalmem } from 'node:os';
import { build, install, installForLong, installing, projectFiles } from './install.mjs';

const kinds = ['unit', 'api', 'browser'];
/** Takes minutes, or more packages: by command only. "long" are all tests, also those that show at length what others show more briefly. */
const byCommand = ['metal', 'long'];

function run(command, args, options = {}) {
  const { status } = spawnSync(command, args, { stdio: 'inherit', ...options });
  if (status !== 0) process.exit(status ?? 1);
}

/** Types and templates are looked at once: where the tests of the web application run, by their own build. */
const buildWeb = (wanted) => `node scripts/launcher/build-web.mjs${wanted.includes('unit') ? '' : ' checked'}`;
/** The check keeps most of what it makes: with room for it, and nobody who clears up beside it, it takes a fifth less of the processors. */
const room = totalmem() > 12e9 ? '--initial-old-space-size=6000 --max-old-space-size=8000' : '';
const checks = [`node --max-semi-space-size=128 --single-threaded-gc ${room} scripts/check.mjs`, 'npx prettier --check --log-level warn .'];

/** Runs commands one after the other, beside what else goes on. Gives the status of the first that failed. */
function inTurn(commands) {
  const child = spawn('sh', ['-c', commands.join(' && ')], { stdio: 'inherit', detached: true });
  process.once('exit', () => {
    if (child.exitCode === null && child.signalCode === null) process.kill(-child.pid);
  });
  return new Promise((resolve) => child.once('exit', (status) => resolve(status ?? 1)));
}

async function holds(checked) {
  if ((await checked) === 0) return;
  process.stderr.write('Lint, format, types or the build do not hold: see above.\n');
  process.exit(1);
}

/** Lines that hold something, tests against all code. */
export function ratio() {
  const code = projectFiles().filter((f) => (/\.(ts|mts|html|scss|mjs)$/.test(f) || f === 'lithodex') && !f.startsWith('docs/'));
  const lines = (files) =>
    files.reduce(
      (sum, f) =>
        sum +
        readFileSync(f, 'utf8')
          .split('\n')
          .filter((l) => l.trim()).length,
      0,
    );
  const tests = code.filter((f) => /\.(test|spec)\.ts$|(^|\/)tests?\//.test(f));
  const [all, own] = [lines(code), lines(tests)];
  process.stdout.write(`Tests are ${((100 * own) / all).toFixed(1)} % of ${all} code lines (${own} lines of tests; wanted: 25 to 33 %).\n`);
}

export async function test(args) {
  if (args.includes('--ratio')) {
    ratio();
    return;
  }
  if (args.includes('long')) {
    await installForLong();
    await build(['node', 'web']);
    const env = { LITHODEX_KILLS: '12', LITHODEX_MUTATIONS: '120', LITHODEX_PROMISES: '15', ...process.env, LITHODEX_LONG: '1' };
    for (const kind of kinds) run('npx', ['vitest', 'run', '--project', kind], { env });
    return;
  }
  const kills = args.find((a) => a.startsWith('--kills='))?.slice('--kills='.length);
  if (kills) {
    await install(true);
    await build(['node']);
    const env = { ...process.env, LITHODEX_KILLS: kills, LITHODEX_PAUSES: String(Math.min(Number(kills), 100)) };
    run('npx', ['vitest', 'run', '--project', 'api', 'tests/api/kill.test.ts', 'tests/api/pauses.test.ts'], { env });
    return;
  }
  const fuzz = args.find((a) => a.startsWith('--fuzz='))?.slice('--fuzz='.length);
  if (fuzz) {
    await install(true);
    await build(['node']);
    run('npx', ['vitest', 'run', '--project', 'api', 'tests/api/fuzz.test.ts', '--testTimeout=3600000'], {
      env: { ...process.env, LITHODEX_FUZZ: fuzz },
    });
    return;
  }
  const follow = args.find((a) => a.startsWith('--follow='))?.slice('--follow='.length);
  if (follow) {
    await install(true);
    await build(['node']);
    run('npx', ['vitest', 'run', '--project', 'api', 'tests/api/follow-kills.test.ts', '--testTimeout=7200000'], {
      env: { ...process.env, LITHODEX_LONG: '1', LITHODEX_FOLLOW: follow },
    });
    return;
  }
  const seconds = args.find((a) => a.startsWith('--seconds='))?.slice('--seconds='.length);
  if (seconds) {
    await install(true);
    await build(['node']);
    run(
      'npx',
      ['vitest', 'run', '--project', 'api', 'tests/api/database-log.test.ts', '-t', 'leads from a full', '--testTimeout=7200000'],
      {
        env: { ...process.env, LITHODEX_SECONDS: seconds },
      },
    );
    return;
  }
  const chosen = args.filter((a) => !a.startsWith('-'));
  const unknown = chosen.find((a) => ![...kinds, ...byCommand].includes(a));
  if (unknown) throw new Error(`There is no kind of test "${unknown}"; there are ${[...kinds, ...byCommand].join(', ')}.`);
  const wanted = chosen.length ? chosen : kinds;
  const { debian, npm } = installing(true, wanted.includes('metal'));
  await npm;
  await build(['node']);
  const beside = [...(chosen.length ? [] : checks), ...(wanted.includes('browser') ? [buildWeb(wanted)] : [])];
  const checked = inTurn(beside);
  await debian;
  for (const kind of wanted) {
    // what is served and timed runs alone
    if (kind !== 'unit') await holds(checked);
    run('npx', ['vitest', 'run', '--project', kind]);
    if (kind === 'unit')
      run('npx', ['ng', 'test'], { cwd: 'packages/web', env: { ...process.env, NG_CLI_ANALYTICS: 'false', NG_BUILD_PARALLEL_TS: '0' } });
  }
  await holds(checked);
  ratio();
}
