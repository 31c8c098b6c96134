// A PostgreSQL server of our own on loopback, without the system's service manager.
import { spawn, spawnSync } from 'node:child_process';
import { chmodSync, chownSync, closeSync, existsSync, mkdirSync, mkdtempSync, openSync, readFileSync, readdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { freePort } from './mariadb.mjs';

const pause = (ms) => new Promise((resume) => setTimeout(resume, ms));
const versions = '/usr/lib/postgresql';

/** A program of the newest version that is installed: the ones in the usual place look for servers of the system first. */
export function postgresqlProgram(name) {
  const found = existsSync(versions) ? readdirSync(versions).sort((a, b) => Number(b) - Number(a)) : [];
  const at = found.map((version) => path.join(versions, version, 'bin', name)).find((file) => existsSync(file));
  return at ?? name;
}

/** The server runs as nobody's superuser: as the account that its package made where we are root. */
function owner() {
  if (process.getuid() !== 0) return {};
  const line = readFileSync('/etc/passwd', 'utf8')
    .split('\n')
    .find((l) => l.startsWith('postgres:'));
  const [, , uid, gid] = line.split(':');
  return { uid: Number(uid), gid: Number(gid) };
}

function ask(socket, port, database, sql) {
  const args = [
    '-X',
    '-q',
    '-A',
    '-t',
    '-v',
    'ON_ERROR_STOP=1',
    '-h',
    socket,
    '-p',
    String(port),
    '-U',
    'postgres',
    '-d',
    database,
    '-f',
    '-',
  ];
  return spawnSync(postgresqlProgram('psql'), args, { input: sql, encoding: 'utf8', maxBuffer: 1 << 30 });
}

/** Runs statements in a database of a server that runs, as its owner, and gives what they answer as text, columns apart by |. */
export function runPostgresql(socket, port, sql, database = 'postgres') {
  const done = ask(socket, port, database, sql);
  if (done.status !== 0) throw new Error(`the statements failed: ${done.stderr}`);
  return done.stdout;
}

/** Starts a server in `folder` (made on first use). Its owner signs in through a socket that only the server's account and root can reach. `more`: further settings, as `name=value`. */
export async function startPostgresql(folder, wantedPort = 0, more = []) {
  const who = owner();
  const data = path.join(folder, 'data');
  const socket = mkdtempSync('/tmp/lithodex-pg-');
  mkdirSync(data, { recursive: true });
  chmodSync(data, 0o700);
  if (who.uid !== undefined) for (const made of [data, socket]) chownSync(made, who.uid, who.gid);
  if (!existsSync(path.join(data, 'PG_VERSION'))) {
    const args = [
      '-D',
      data,
      '-U',
      'postgres',
      '-E',
      'UTF8',
      '--locale=C.UTF-8',
      '--auth-local=trust',
      '--auth-host=scram-sha-256',
      '--no-sync',
    ];
    const made = spawnSync(postgresqlProgram('initdb'), args, { encoding: 'utf8', cwd: '/', ...who });
    if (made.status !== 0) throw new Error(`initdb failed: ${made.stderr || made.stdout || made.error}`);
  }
  const port = await freePort(wantedPort);
  const settings = [
    `listen_addresses=127.0.0.1`,
    `port=${port}`,
    `unix_socket_directories=${socket}`,
    'shared_buffers=32MB',
    'max_connections=60',
    'timezone=UTC',
    ...more,
  ];
  const output = openSync(path.join(folder, 'stdout.log'), 'a');
  const child = spawn(postgresqlProgram('postgres'), ['-D', data, ...settings.flatMap((s) => ['-c', s])], {
    stdio: ['ignore', output, output],
    detached: true,
    cwd: '/',
    ...who,
  });
  child.unref();
  closeSync(output);
  let ready = false;
  for (let i = 0; i < 300 && !ready && child.exitCode === null; i++) {
    ready = ask(socket, port, 'postgres', 'SELECT 1').status === 0;
    if (!ready) await pause(100);
  }
  if (!ready) throw new Error(`PostgreSQL did not start; see ${path.join(folder, 'stdout.log')}`);
  return {
    port,
    socket,
    pid: child.pid,
    run: (sql, database) => runPostgresql(socket, port, sql, database),
    async stop() {
      // at once: it waits for nobody who is connected
      if (child.exitCode === null && child.signalCode === null) process.kill(child.pid, 'SIGINT');
      for (let i = 0; i < 300 && child.exitCode === null && child.signalCode === null; i++) await pause(50);
      rmSync(socket, { recursive: true, force: true });
    },
  };
}
