// A MariaDB server of our own on loopback, without the system's service manager.
import { spawn, spawnSync } from 'node:child_process';
import { chownSync, closeSync, existsSync, mkdirSync, mkdtempSync, openSync, readFileSync, rmSync } from 'node:fs';
import net from 'node:net';
import os from 'node:os';
import path from 'node:path';

const mebibyte = 1 << 20;
/** Of the catalog, which is fast while what it writes to is in memory: an eighth of the machine's, in MiB. Taken when needed. */
const catalogMemory = Math.min(4096, Math.max(256, Math.floor(os.totalmem() / 8 / mebibyte)));

const pause = (ms) => new Promise((resume) => setTimeout(resume, ms));

/** The wanted port if it is free, else any free one. */
export function freePort(wanted = 0) {
  const attempt = (port) =>
    new Promise((resolve, reject) => {
      const server = net.createServer();
      server.once('error', reject);
      server.listen(port, '127.0.0.1', () => {
        const found = server.address().port;
        server.close(() => resolve(found));
      });
    });
  return attempt(wanted).catch(() => attempt(0));
}

function ids(user) {
  const line = readFileSync('/etc/passwd', 'utf8')
    .split('\n')
    .find((l) => l.startsWith(`${user}:`));
  const [, , uid, gid] = line.split(':');
  return [Number(uid), Number(gid)];
}

/** Whether a process is there. */
export function isAlive(pid) {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}

const ask = (socket, sql, encoding = 'utf8') =>
  spawnSync('mariadb', ['--no-defaults', '--skip-column-names', '--default-character-set=utf8mb4', `--socket=${socket}`], {
    input: sql,
    encoding,
    maxBuffer: 1 << 30,
  });

/** Runs statements in a server that runs, as its owner, and gives what they answer as text. */
export function runSql(socket, sql) {
  const done = ask(socket, sql);
  if (done.status !== 0) throw new Error(`the statements failed: ${done.stderr}`);
  return done.stdout;
}

/** Opens a database and an account that has all of it in a server that runs. Gives the server's port. */
export function openAccount(socket, { name, user, password }) {
  const made = ask(
    socket,
    `CREATE DATABASE IF NOT EXISTS ${name}; CREATE USER IF NOT EXISTS '${user}'@'127.0.0.1'; ALTER USER '${user}'@'127.0.0.1' IDENTIFIED BY '${password}'; GRANT ALL ON ${name}.* TO '${user}'@'127.0.0.1'; SELECT @@port;`,
  );
  if (made.status !== 0) throw new Error(`the database could not be opened: ${made.stderr}`);
  return Number(made.stdout);
}

/** Takes a database and its account away. */
export function removeAccount(socket, { name, user }) {
  const removed = ask(socket, `DROP DATABASE ${name}; DROP USER '${user}'@'127.0.0.1';`);
  if (removed.status !== 0) throw new Error(`the database could not be removed: ${removed.stderr}`);
}

/** Whether every transaction waits for the disk. What is made anew when it breaks off, as the history of the demo or the database of a test, need not. */
export function setDurable(socket, durable) {
  const set = ask(socket, `SET GLOBAL innodb_flush_log_at_trx_commit = ${durable ? 1 : 2};`);
  if (set.status !== 0) throw new Error(`the database could not be set: ${set.stderr}`);
}

/** A data folder that no server has used yet, from which this process makes others: making one anew takes seconds. */
let fresh;
const copy = (from, to) => spawnSync('cp', ['--archive', '--sparse=always', '--no-target-directory', '--', from, to]).status === 0;

function keepFresh(data) {
  const folder = mkdtempSync(path.join(os.tmpdir(), 'lithodex-fresh-data-'));
  process.once('exit', () => rmSync(folder, { recursive: true, force: true }));
  if (copy(data, path.join(folder, 'data'))) fresh = path.join(folder, 'data');
}

const copyFresh = (data) => fresh !== undefined && existsSync(fresh) && copy(fresh, data);

/**
 * Starts a server in `folder` (made on first use), with the database and account that are given. `log`: its number among servers that copy each other, where it is to keep a log of
 * changes, as one that is protected does. `more`: further options.
 */
export async function startMariadb(folder, account, wantedPort = 0, log = undefined, more = []) {
  const asRoot = process.getuid() === 0;
  const data = path.join(folder, 'data');
  const socket = `/tmp/lithodex-db-${process.pid}-${Math.random().toString(36).slice(2, 8)}.sock`;
  const pidFile = path.join(folder, 'mariadb.pid');
  for (const sub of ['', 'tmp', 'data']) mkdirSync(path.join(folder, sub), { recursive: true });
  const user = asRoot ? 'mysql' : process.env.USER;
  if (asRoot) for (const sub of ['', 'tmp', 'data']) chownSync(path.join(folder, sub), ...ids('mysql'));
  const leftover = existsSync(pidFile) ? Number(readFileSync(pidFile, 'utf8')) : 0;
  if (leftover && isAlive(leftover) && readFileSync(`/proc/${leftover}/cmdline`, 'latin1').includes(data)) {
    process.kill(leftover, 'SIGTERM');
    for (let i = 0; i < 150 && isAlive(leftover); i++) await pause(100);
  }
  if (!existsSync(path.join(data, 'mysql')) && !copyFresh(data)) {
    const made = spawnSync(
      'mariadb-install-db',
      [
        '--no-defaults',
        `--user=${user}`,
        `--datadir=${data}`,
        '--auth-root-authentication-method=socket',
        `--auth-root-socket-user=${asRoot ? 'root' : user}`,
        '--skip-test-db',
        '--skip-name-resolve',
      ],
      // two that are made at the same time would take each other's temporary tables away
      { encoding: 'utf8', env: { ...process.env, TMPDIR: path.join(folder, 'tmp') } },
    );
    if (made.status !== 0) throw new Error(`mariadb-install-db failed: ${made.stderr || made.stdout}`);
    keepFresh(data);
  }
  const port = await freePort(wantedPort);
  const output = openSync(path.join(folder, 'stdout.log'), 'a');
  const args = [
    '--no-defaults',
    `--user=${user}`,
    `--datadir=${data}`,
    `--tmpdir=${path.join(folder, 'tmp')}`,
    `--socket=${socket}`,
    `--pid-file=${pidFile}`,
    '--bind-address=127.0.0.1',
    `--port=${port}`,
    '--skip-name-resolve',
    `--log-error=${path.join(folder, 'error.log')}`,
    '--character-set-server=utf8mb4',
    '--collation-server=utf8mb4_unicode_ci',
    '--default-time-zone=+00:00',
    ...(log === undefined ? ['--skip-log-bin'] : [`--log-bin=${path.join(data, 'changes')}`, `--server-id=${log}`, '--binlog-format=ROW']),
    `--innodb-buffer-pool-size=${log === undefined ? catalogMemory : 64}M`,
    '--innodb-log-file-size=128M',
    '--max-connections=120',
    '--max-allowed-packet=64M',
    '--group-concat-max-len=65536',
    ...more,
  ];
  const child = spawn('mariadbd', args, { stdio: ['ignore', output, output], detached: true });
  child.unref();
  closeSync(output);
  let ready = false;
  for (let i = 0; i < 300 && !ready && child.exitCode === null; i++) {
    ready = ask(socket, 'SELECT 1').status === 0;
    if (!ready) await pause(100);
  }
  if (!ready) throw new Error(`MariaDB did not start; see ${path.join(folder, 'error.log')}`);
  if (account) openAccount(socket, account);
  return {
    port,
    socket,
    pid: child.pid,
    async stop() {
      if (isAlive(child.pid)) process.kill(child.pid, 'SIGTERM');
      for (let i = 0; i < 300 && isAlive(child.pid); i++) await pause(50);
    },
  };
}
