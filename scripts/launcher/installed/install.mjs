// "./lithodex install", "upgrade" and "remove": an installation that the system starts.
import { spawnSync } from 'node:child_process';
import { chmodSync, existsSync, mkdirSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { bringBack, connect, dump } from './database.mjs';
import { accountIds, addressOf, markInstalled, openInstallation, placesOf, readJson, refuseRunning, settingsOf } from './state.mjs';
import { serverAccount, unitFolder, unitNames, unitsOf } from './units.mjs';

const say = (text) => process.stderr.write(`${text}\n`);
export const usualProgram = '/opt/lithodex';
/** What of a checkout is no part of the program. */
const leftOut = new Set(['.git', 'state', 'node_modules/.cache']);

function run(command, args, { mayFail = false } = {}) {
  const done = spawnSync(command, args, { encoding: 'utf8' });
  if (!mayFail && (done.error || done.status !== 0))
    throw new Error(`${command} ${args.join(' ')} failed: ${(done.stderr || done.stdout || done.error?.message || '').trim()}`);
  return done;
}

const systemctl = (...args) => run('systemctl', args);

function refuseUnfit() {
  if (process.getuid() !== 0) throw new Error('This needs the rights of root.');
  if (!existsSync('/run/systemd/system'))
    throw new Error('systemd does not run here. Start Lithodex in the foreground with "./lithodex start".');
}

/** Copies the program to where the system runs it from; what is there stays beside it until it is replaced. */
function copyProgram(program) {
  const fresh = `${program}.new`;
  rmSync(fresh, { recursive: true, force: true });
  mkdirSync(fresh, { recursive: true, mode: 0o755 });
  const parts = readdirSync('.').filter((name) => !leftOut.has(name));
  run('cp', ['-a', '--', ...parts, fresh]);
  for (const name of leftOut) rmSync(path.join(fresh, name), { recursive: true, force: true });
  // what runs there changes nothing of it, and only root may
  run('chown', ['-R', 'root:root', fresh]);
  run('chmod', ['-R', 'a+rX,go-w', fresh]);
  return fresh;
}

/** Puts a copy in the place of the program; the one before is kept beside it. */
function putInPlace(fresh, program) {
  const before = `${program}.before`;
  rmSync(before, { recursive: true, force: true });
  if (existsSync(program)) renameSync(program, before);
  renameSync(fresh, program);
  return before;
}

function writeUnits(state, program, settings) {
  const units = unitsOf({
    program,
    node: process.execPath,
    state,
    ownDatabase: settings.database === 'own',
    lowPort: Math.min(settings.port, settings.redirectPort ?? settings.port) < 1024,
  });
  for (const name of unitNames) rmSync(path.join(unitFolder, name), { force: true });
  for (const [name, text] of Object.entries(units)) {
    const file = path.join(unitFolder, name);
    writeFileSync(file, text, { mode: 0o644 });
    chmodSync(file, 0o644);
  }
  systemctl('daemon-reload');
  return Object.keys(units);
}

function makeAccount(state) {
  if (accountIds(serverAccount)) return;
  run('useradd', ['--system', '--user-group', '--no-create-home', '--home-dir', state, '--shell', '/usr/sbin/nologin', serverAccount]);
}

/** Starts all, and waits until the server answers. Throws with what the journal says. */
function startAll(units) {
  systemctl('enable', '--quiet', ...units);
  // those of a unit that failed before would be refused for a while
  run('systemctl', ['reset-failed', ...units], { mayFail: true });
  for (const unit of units.filter((u) => u.endsWith('.service'))) {
    const started = run('systemctl', ['restart', unit], { mayFail: true });
    if (started.status === 0) continue;
    const journal = run('journalctl', ['--no-pager', '--lines=20', '--output=cat', '--unit', unit], { mayFail: true }).stdout;
    throw new Error(`${unit} did not start: ${started.stderr.trim()}\n${journal.trim()}`);
  }
  systemctl('start', 'lithodex.target');
}

const stopAll = () =>
  run('systemctl', ['stop', 'lithodex.target', ...unitNames.filter((u) => u.endsWith('.service')).reverse()], { mayFail: true });

/** Makes the system start an installation; called again, with what is asked then. `asked`: what was said of it; `program`: where it is to be run from. */
export async function installUnits(state, asked, program = usualProgram) {
  refuseUnfit();
  const before = existsSync(placesOf(state).settings) ? settingsOf(state).installed : undefined;
  if (before && before.program !== program)
    throw new Error(`${state} is installed in ${before.program}. Take that away first with "./lithodex remove".`);
  refuseRunning(state);
  makeAccount(state);
  const fresh = copyProgram(program);
  const { settings } = await openInstallation(state, asked, accountIds(serverAccount));
  putInPlace(fresh, program);
  const units = writeUnits(state, program, settings);
  markInstalled(state, { program });
  startAll(units);
  say(`Lithodex is installed in ${program}, its state is in ${state}. It runs at ${addressOf(settings)} and starts with the system.`);
  const { first } = placesOf(state);
  if (existsSync(first)) say(`\nMake the first administrator, once, at\n\n  ${readFileSync(first, 'utf8').trim()}\n`);
}

/** Brings an installation to the version of this program; where that does not start, the one before is put back with its database. */
export async function upgrade(state) {
  refuseUnfit();
  const { installed } = settingsOf(state);
  if (!installed)
    throw new Error(
      `${state} is not installed. One that is started with "./lithodex start" is upgraded by starting it with the new version.`,
    );
  const { program } = installed;
  if (path.resolve('.') === path.resolve(program)) throw new Error('Call this from the new version, not from the one that is installed.');
  const places = placesOf(state);
  const config = readJson(places.config);
  const fresh = copyProgram(program);
  run('systemctl', ['stop', 'lithodex-mover.service', 'lithodex-server.service'], { mayFail: true });
  // the database runs on, so that it can be written down
  await (await connect(config)).end();
  const kept = dump(config, places.dumps, 'before-upgrade');
  const before = putInPlace(fresh, program);
  try {
    startAll(writeUnits(state, program, settingsOf(state)));
  } catch (error) {
    say('The new version does not start, so the one before is put back.');
    run('systemctl', ['stop', 'lithodex-mover.service', 'lithodex-server.service'], { mayFail: true });
    rmSync(program, { recursive: true, force: true });
    renameSync(before, program);
    run('systemctl', ['start', 'lithodex-database.service'], { mayFail: true });
    await bringBack(config, kept);
    startAll(writeUnits(state, program, settingsOf(state)));
    throw new Error(`The upgrade was undone. ${error.message}`, { cause: error });
  }
  say(`Lithodex in ${program} is of this version now. The database of before is kept in ${kept}, the program of before in ${before}.`);
}

/** Takes away what install made. The state stays unless it is named; nothing on targets is touched. */
export function remove(state, withState) {
  refuseUnfit();
  const { installed } = settingsOf(state);
  if (!installed) throw new Error(`${state} is not installed.`);
  stopAll();
  run('systemctl', ['disable', '--quiet', ...unitNames], { mayFail: true });
  for (const name of unitNames) rmSync(path.join(unitFolder, name), { force: true });
  systemctl('daemon-reload');
  run('systemctl', ['reset-failed', ...unitNames], { mayFail: true });
  for (const folder of [installed.program, `${installed.program}.before`, `${installed.program}.new`])
    rmSync(folder, { recursive: true, force: true });
  if (withState) rmSync(state, { recursive: true, force: true });
  else {
    run('chown', ['-R', 'root:root', placesOf(state).server, placesOf(state).dumps]);
    markInstalled(state, undefined);
  }
  run('userdel', [serverAccount], { mayFail: true });
  say(
    withState
      ? `Lithodex is gone from this machine, with ${state}. What its targets hold is untouched, and opens with their key envelopes.`
      : `Lithodex is gone from this machine. Its state is still in ${state}: "./lithodex start" goes on with it.`,
  );
}
