// "./lithodex test": installs, builds, lints, runs the tests.
import { spawn, spawnSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { build, projectFiles, installDebian, installNpm } from './install.mjs';

const kinds = ['unit', 'api', 'browser'];

function run(command, args, options = {}) {
  const { status } = spawnSync(command, args, { stdio: 'inherit', ...options });
  if (status !== 0) process.exit(status ?? 1);
}

/** Lints, and checks format and types, beside the tests. Gives the status it ended with. */
function checkBeside() {
  const checks = [
    'eslint . --cache --cache-location node_modules/.cache/eslint',
    'prettier --check --log-level warn .',
    'tsc -p tsconfig.json --noEmit',
  ];
  const child = spawn('sh', ['-c', checks.map((check) => `npx ${check}`).join(' && ')], { stdio: 'inherit' });
  return new Promise((resolve) => child.once('exit', (status) => resolve(status ?? 1)));
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
  const kills = args.find((a) => a.startsWith('--kills='))?.slice('--kills='.length);
  if (kills) {
    installDebian(true);
    installNpm();
    build(['node']);
    const env = { ...process.env, LITHODEX_KILLS: kills, LITHODEX_PAUSES: String(Math.min(Number(kills), 100)) };
    run('npx', ['vitest', 'run', '--project', 'api', 'tests/api/kill.test.ts', 'tests/api/pauses.test.ts'], { env });
    return;
  }
  const fuzz = args.find((a) => a.startsWith('--fuzz='))?.slice('--fuzz='.length);
  if (fuzz) {
    installDebian(true);
    installNpm();
    build(['node']);
    run('npx', ['vitest', 'run', '--project', 'api', 'tests/api/fuzz.test.ts', '--testTimeout=3600000'], {
      env: { ...process.env, LITHODEX_FUZZ: fuzz },
    });
    return;
  }
  const chosen = args.filter((a) => !a.startsWith('-'));
  const unknown = chosen.find((a) => !kinds.includes(a));
  if (unknown) throw new Error(`There is no kind of test "${unknown}"; there are ${kinds.join(', ')}.`);
  const wanted = chosen.length ? chosen : kinds;
  installDebian(true);
  installNpm();
  build(wanted.includes('browser') ? ['node', 'web'] : ['node']);
  const checked = chosen.length ? 0 : checkBeside();
  for (const kind of wanted) {
    run('npx', ['vitest', 'run', '--project', kind]);
    if (kind === 'unit') {
      run('npx', ['ng', 'test'], { cwd: 'packages/web', env: { ...process.env, NG_CLI_ANALYTICS: 'false' } });
      // what is served and timed runs alone
      if ((await checked) !== 0) {
        process.stderr.write('Lint, format or types do not hold: see above.\n');
        process.exit(1);
      }
    }
  }
  ratio();
}
