import { spawnSync } from 'node:child_process';
import { countOf } from '@lithodex/core';
import type { DatabaseFacts, DatabaseServer, SystemTest } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import { commonDatabase, PgConnection, withPg } from './connection';
import { programPath } from './programs';
import { databaseNames } from './read-server';

/** What the account must be allowed to, what for, and the question that tells whether it is. Who is above all rights has each. */
const neededRights: readonly { readonly right: string; readonly neededFor: string; readonly to: 'read' | 'rest'; readonly has: string }[] =
  [
    {
      right: 'pg_read_all_data',
      neededFor: 'to read all tables and sequences',
      to: 'read',
      has: "pg_has_role(current_user, 'pg_read_all_data', 'USAGE')",
    },
    {
      right: 'BYPASSRLS',
      neededFor: 'to read tables whose rules hide rows: without it a backup of these fails',
      to: 'rest',
      has: 'r.rolbypassrls',
    },
    { right: 'CREATEDB', neededFor: 'to restore whole databases', to: 'rest', has: 'r.rolcreatedb' },
    { right: 'REPLICATION', neededFor: 'to fetch its log, and the files that it leads on from', to: 'rest', has: 'r.rolreplication' },
    {
      right: 'pg_monitor',
      neededFor: 'to see where its log stands',
      to: 'rest',
      has: "pg_has_role(current_user, 'pg_monitor', 'USAGE')",
    },
    {
      right: 'SUPERUSER',
      neededFor: 'to read the accounts with what opens them, and to restore what belongs to other accounts',
      to: 'rest',
      has: 'r.rolsuper',
    },
  ];
const mostApart = 5;
/** The oldest version that was tried. */
const oldest = 14;

interface Settings {
  readonly version: string;
  readonly now: string;
  readonly ends: string | null;
  readonly level: string;
  /** How much of the log it keeps for those who do not read it, MB; -1 without a limit. */
  readonly limit: string;
}

const majorOf = (version: string) => Number(/\d+/.exec(version)?.[0] ?? 0);

/** Version of the program that reads; undefined where it is not installed. */
function programVersion(): string | undefined {
  const said = spawnSync(programPath('pg_dump'), ['--version'], { encoding: 'utf8' });
  return said.status === 0 ? /[\d.]+/.exec(said.stdout)?.[0] : undefined;
}

function remarksOf(s: Settings, databases: number): string[] {
  const said: string[] = [];
  const program = programVersion();
  if (program === undefined) said.push('The client programs of the family are not installed on the mover, so nothing can be read.');
  else if (majorOf(program) < majorOf(s.version))
    said.push(`The client programs on the mover are of version ${program}: they do not read a server that is newer.`);
  if (majorOf(s.version) < oldest) said.push(`Servers older than ${oldest} were not tried.`);
  if (databases > 1) said.push('Each database is read at one instant of its own: the family has none that holds for several.');
  if (s.level === 'minimal')
    said.push('Its log leads nowhere (wal_level is minimal), so it can be brought back to points only, not to a second.');
  else if (s.limit === '-1')
    said.push(
      'It keeps its log until it is read, without a limit (max_slot_wal_keep_size is -1): where a policy takes its log and the mover is away for long, its disk fills.',
    );
  const apart = Math.abs(Date.now() / 1000 - Number(s.now));
  if (apart > mostApart) said.push(`Its clock and the mover's are ${Math.round(apart)} s apart.`);
  return said;
}

/** Signs in and looks whether the account may do all that is needed. Throws SourceError when it can't sign in. */
export function testServer(server: DatabaseServer): Promise<SystemTest> {
  return withPg(server, commonDatabase, async (c) => {
    const settings = (await c.row<Settings>(
      "SELECT current_setting('server_version') AS version, current_setting('wal_level') AS level, (SELECT setting FROM pg_settings WHERE name = 'max_slot_wal_keep_size') AS limit, extract(epoch FROM now())::text AS now, (extract(epoch FROM NULLIF(rolvaliduntil, 'infinity')) * 1000)::bigint::text AS ends FROM pg_roles WHERE rolname = current_user",
    ))!;
    const asked = neededRights.map(({ has }, i) => `(${has}) AS "${i}"`).join(', ');
    const row = (await c.row<Record<string, boolean>>(
      `SELECT r.rolsuper AS all, ${asked} FROM pg_roles r WHERE r.rolname = current_user`,
    ))!;
    const needs = neededRights.map(({ right, neededFor }, i) => ({ right, neededFor, missing: !row['all'] && !row[String(i)] }));
    const unreadable = neededRights.filter((n, i) => n.to === 'read' && needs[i]!.missing).map((n) => n.right);
    const names = await databaseNames(c);
    const found = `PostgreSQL ${/^[\d.]+/.exec(settings.version)?.[0] ?? ''} with ${countOf(names.length, 'database')}`;
    return {
      ok: unreadable.length === 0,
      message: unreadable.length ? `${found}. This is missing to read it: ${unreadable.join(', ')}.` : `${found}.`,
      needs,
      remarks: remarksOf(settings, names.length),
      credentialEnds: settings.ends === null ? null : Number(settings.ends),
      found: names.length,
    };
  });
}

interface Sizes {
  readonly tables: string;
  readonly rows: string | null;
}

async function sizesOf(server: DatabaseServer, name: string): Promise<Sizes> {
  const c = await PgConnection.open(server, name);
  try {
    return (await c.row<Sizes>(
      "SELECT count(*) AS tables, sum(greatest(c.reltuples, pg_stat_get_live_tuples(c.oid), 0))::bigint AS rows FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'r' AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'",
    ))!;
  } catch (error) {
    if (error instanceof SourceError && error.code !== 'DATABASE_AWAY') return { tables: '0', rows: '0' };
    throw error;
  } finally {
    await c.close();
  }
}

/** What the server is and holds. Throws SourceError. */
export function serverFacts(server: DatabaseServer): Promise<DatabaseFacts> {
  return withPg(server, commonDatabase, async (c) => {
    const { version, level } = (await c.row<{ version: string; level: string }>(
      "SELECT current_setting('server_version') AS version, current_setting('wal_level') AS level",
    ))!;
    const databases: DatabaseFacts['databases'][number][] = [];
    for (const name of await databaseNames(c)) {
      const { bytes } = (await c.row<{ bytes: string }>('SELECT pg_database_size($1) AS bytes', [name]))!;
      const { tables, rows } = await sizesOf(server, name);
      databases.push({ name, tables: Number(tables), rows: Number(rows ?? 0), bytes: Number(bytes) });
    }
    return { kind: 'database', family: 'postgresql', version, databases, logs: { on: level !== 'minimal', hours: null } };
  });
}
