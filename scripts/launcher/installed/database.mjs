// The database of an installation: its own server, dumps before tables change, and what the launcher itself asks of it.
import { spawnSync } from 'node:child_process';
import { chmodSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import mysql from 'mysql2/promise';
import { isAlive, startMariadb } from '../mariadb.mjs';

const keptDumps = 5;

const lookMs = 1000;
const longestMs = 30_000;

async function startOnce({ places, settings, config }) {
  const { name, user, password } = config.database;
  const started = await startMariadb(places.database, { name, user, password }, settings.databasePort);
  chmodSync(places.database, 0o700);
  if (started.port === settings.databasePort) return started;
  await started.stop();
  throw new Error(`Port ${settings.databasePort} on loopback, which the database of this installation has, is taken by something else.`);
}

/** Starts the installation's own database server where it has one, and starts it again should it end by itself. `say`: told in words. Throws when its port is taken. */
export async function keepDatabase(installation, say) {
  if (installation.settings.database !== 'own') return undefined;
  let running = await startOnce(installation);
  let starting;
  let [notBefore, wait] = [0, lookMs];
  const look = setInterval(() => {
    if (starting || Date.now() < notBefore) return;
    if (isAlive(running.pid)) return;
    say('The database ended by itself; it is started again.');
    starting = startOnce(installation)
      .then((again) => {
        running = again;
        wait = lookMs;
      })
      .catch((error) => {
        say(error.message);
        wait = Math.min(longestMs, wait * 2);
        notBefore = Date.now() + wait;
      })
      .finally(() => (starting = undefined));
  }, lookMs);
  return {
    async stop() {
      clearInterval(look);
      await starting;
      await running.stop();
    },
  };
}

/** A connection to the database of a configuration. Throws in words. */
export async function connect({ database: d }) {
  const ssl = d.tls && { rejectUnauthorized: true, ...(d.tls.authority && { ca: readFileSync(d.tls.authority, 'utf8') }) };
  const where = { host: d.host ?? '127.0.0.1', port: d.port, user: d.user, password: d.password, database: d.name };
  return mysql.createConnection({ ...where, connectTimeout: 10_000, ...(ssl && { ssl }) }).catch((error) => {
    throw new Error(`The database at ${where.host}:${where.port} does not answer: ${error.message}`);
  });
}

const withDatabase = async (config, act) => {
  const db = await connect(config);
  try {
    return await act(db);
  } finally {
    await db.end();
  }
};

/** Name of the newest change of the tables in the database; '' for an empty one. */
export const schemaThere = (config) =>
  withDatabase(config, async (db) => {
    const [there] = await db.query("SHOW TABLES LIKE 'migration'");
    if (!there.length) return '';
    const [[newest]] = await db.query('SELECT name FROM migration ORDER BY name DESC LIMIT 1');
    return newest?.name ?? '';
  });

/** Name of the newest change of the tables that the program knows. Throws when it can not be run. */
export function schemaKnown() {
  const asked = spawnSync(process.execPath, ['dist/node/server.js', '--schema'], { encoding: 'utf8' });
  if (asked.status !== 0) throw new Error(`The server could not be asked: ${asked.stderr}`);
  return asked.stdout.trim();
}

/** Calls something with a file that holds what opens the database, which others can not read. */
function withAccount({ database: d }, folder, act) {
  const account = path.join(folder, '.account');
  const quoted = `"${d.password.replace(/(["\\])/g, '\\$1')}"`;
  const tls = d.tls ? ['ssl-verify-server-cert', ...(d.tls.authority ? [`ssl-ca="${d.tls.authority}"`] : ['ssl'])] : [];
  writeFileSync(account, ['[client]', `password=${quoted}`, ...tls, ''].join('\n'), { mode: 0o600 });
  try {
    return act([`--defaults-file=${account}`, '--host', d.host, '--port', String(d.port), '--user', d.user]);
  } finally {
    rmSync(account, { force: true });
  }
}

function shell(script, args, env) {
  const done = spawnSync('bash', ['-c', `set -o pipefail; umask 077; ${script}`, 'lithodex', ...args], {
    encoding: 'utf8',
    env: { ...process.env, ...env },
  });
  return done.status === 0 ? undefined : done.stderr || String(done.error);
}

/** Writes all of the database into a file in `folder`, packed; keeps the newest few. Gives the file. Throws when it could not be written whole. */
export function dump({ database: d }, folder, label) {
  const target = path.join(folder, `${label}-${new Date().toISOString().replace(/[:.]/g, '')}.sql.gz`);
  // what tables were at earlier times goes along
  const how = ['--single-transaction', '--quick', '--hex-blob', '--dump-history', d.name];
  const failed = withAccount({ database: d }, folder, (args) =>
    shell('mariadb-dump "$@" | gzip -1 > "$OUT"', [...args, ...how], { OUT: `${target}.part` }),
  );
  if (failed) {
    rmSync(`${target}.part`, { force: true });
    throw new Error(`The database could not be written to ${folder}: ${failed}`);
  }
  renameSync(`${target}.part`, target);
  const all = readdirSync(folder)
    .filter((f) => f.endsWith('.sql.gz'))
    .sort((a, b) => a.slice(-28).localeCompare(b.slice(-28)));
  for (const old of all.slice(0, -keptDumps)) rmSync(path.join(folder, old));
  return target;
}

/** Makes the database what a dump of it says. Throws when that could not be done. */
export async function bringBack(config, file) {
  const db = await connect(config);
  try {
    const [tables] = await db.query('SHOW TABLES');
    await db.query('SET FOREIGN_KEY_CHECKS = 0');
    for (const row of tables) await db.query('DROP TABLE ??', [Object.values(row)[0]]);
  } finally {
    await db.end();
  }
  const failed = withAccount(config, path.dirname(file), (args) =>
    shell('gunzip -c "$FILE" | mariadb "$@"', [...args, config.database.name], { FILE: file }),
  );
  if (failed) throw new Error(`The database could not be brought back from ${file}: ${failed}`);
}

/** Dumps a database whose tables the program is about to change. Gives the file; undefined where nothing changes. Throws for one of a newer program. */
export async function dumpBeforeChange({ config, places }) {
  const [there, known] = [await schemaThere(config), schemaKnown()];
  if (there === '' || there === known) return undefined;
  if (there > known)
    throw new Error(
      `The database was changed by a newer Lithodex (${there}; this one knows ${known}). Start that one again, or bring back a dump of before from ${places.dumps}.`,
    );
  return dump(config, places.dumps, `before-${known.slice(0, 4)}-was-${there.slice(0, 4)}`);
}

/** Whether nobody has an account yet. */
export const nobodyYet = (config) =>
  withDatabase(config, async (db) => {
    const [rows] = await db.query('SELECT id FROM person LIMIT 1');
    return rows.length === 0;
  });
