import { countOf } from '@lithodex/core';
import type { DatabaseFacts, DatabaseServer, SystemTest } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import { withMariadb, type MariadbConnection } from './connection';
import { databaseNames } from './contents';

/** What the account must be allowed to, and what for. */
const neededRights: readonly { readonly right: string; readonly neededFor: string; readonly to: 'read' | 'log' | 'replica' | 'restore' }[] =
  [
    { right: 'SELECT', neededFor: 'to read tables and the text of routines', to: 'read' },
    { right: 'SHOW VIEW', neededFor: 'to read views: without it they are left out and nobody is told', to: 'read' },
    { right: 'TRIGGER', neededFor: 'to read triggers: without it they are left out and nobody is told', to: 'read' },
    { right: 'EVENT', neededFor: 'to read events: without it they are left out and nobody is told', to: 'read' },
    { right: 'BINLOG MONITOR', neededFor: 'to know where the log stands', to: 'log' },
    { right: 'REPLICATION SLAVE', neededFor: 'to fetch the log', to: 'log' },
    { right: 'SLAVE MONITOR', neededFor: 'to know how far a replica is behind', to: 'replica' },
    { right: 'CREATE', neededFor: 'to restore', to: 'restore' },
    { right: 'INSERT', neededFor: 'to restore', to: 'restore' },
    { right: 'ALTER', neededFor: 'to put restored tables in place', to: 'restore' },
    { right: 'DROP', neededFor: 'to replace tables, and to tidy up a restore that was interrupted', to: 'restore' },
    { right: 'INDEX', neededFor: 'to restore', to: 'restore' },
    { right: 'REFERENCES', neededFor: 'to restore keys to other tables', to: 'restore' },
    { right: 'CREATE VIEW', neededFor: 'to restore views', to: 'restore' },
    { right: 'CREATE ROUTINE', neededFor: 'to restore procedures and functions', to: 'restore' },
    { right: 'SET USER', neededFor: 'to restore what belongs to other accounts', to: 'restore' },
  ];

interface Settings {
  readonly version: string;
  readonly account: string;
  readonly log: number;
  readonly form: string;
  readonly checksum: string;
  readonly expires: number;
  readonly now: number | string;
}

const settingsOf = async (c: MariadbConnection): Promise<Settings> =>
  (await c.row<Settings>(
    'SELECT VERSION() AS version, CURRENT_USER() AS account, @@log_bin AS log, @@binlog_format AS form, @@binlog_checksum AS checksum, @@binlog_expire_logs_seconds AS expires, UNIX_TIMESTAMP(NOW(3)) AS now',
  ))!;

async function rightsOf(c: MariadbConnection): Promise<Set<string>> {
  const rows = await c.rows<{ right: string }>(
    'SELECT privilege_type AS `right` FROM information_schema.user_privileges WHERE grantee = CONCAT("\'", REPLACE(CURRENT_USER(), \'@\', "\'@\'"), "\'")',
  );
  return new Set(rows.map((r) => r.right));
}

/** When the password of the account ends, ms; null when it doesn't, or may not be asked. */
async function passwordEnds(c: MariadbConnection): Promise<number | null> {
  try {
    const row = await c.row<{ changed: number | null; days: number | null }>(
      "SELECT JSON_VALUE(priv, '$.password_last_changed') AS changed, COALESCE(NULLIF(JSON_VALUE(priv, '$.password_lifetime'), -1), @@default_password_lifetime) AS days FROM mysql.global_priv WHERE CONCAT(user, '@', host) = CURRENT_USER()",
    );
    const [changed, days] = [Number(row?.changed ?? 0), Number(row?.days ?? 0)];
    return changed > 0 && days > 0 ? (changed + days * 86_400) * 1000 : null;
  } catch {
    return null;
  }
}

const mostApart = 5;

function remarksOf(s: Settings): string[] {
  const said: string[] = [];
  const apart = Math.abs(Date.now() / 1000 - Number(s.now));
  if (s.log !== 1) said.push('It writes no log (log_bin is off), so it can be brought back to points only, not to a second.');
  else {
    if (s.form !== 'ROW')
      said.push(`Its log holds statements (binlog_format is ${s.form}), so what a commit changed can't be told. Set it to ROW.`);
    if (s.checksum === 'NONE')
      said.push('Its log has no checksums (binlog_checksum is NONE), so damage to it is not noticed. Set it to CRC32.');
    if (s.expires > 0 && s.expires < 86_400)
      said.push(`It keeps its log for ${Math.round(s.expires / 3600)} h only: a mover that is away for longer leaves a gap.`);
  }
  if (apart > mostApart) said.push(`Its clock and the mover's are ${Math.round(apart)} s apart.`);
  return said;
}

/** Signs in and looks whether the account may do all that is needed. Throws SourceError when it can't sign in. */
export function testServer(server: DatabaseServer): Promise<SystemTest> {
  return withMariadb(server, async (c) => {
    const settings = await settingsOf(c);
    if (!/mariadb/i.test(settings.version)) throw new SourceError('DATABASE_AWAY', 'what answers there is no server of this family');
    const rights = await rightsOf(c);
    const needs = neededRights
      .filter((n) => (n.to !== 'log' || settings.log === 1) && (n.to !== 'replica' || server.replicas))
      .map(({ right, neededFor }) => ({ right, neededFor, missing: !rights.has(right) }));
    const unreadable = neededRights.filter((n) => n.to === 'read' && !rights.has(n.right)).map((n) => n.right);
    const names = rights.has('SELECT') ? await databaseNames(c) : [];
    const { length } = names;
    const found = `MariaDB ${/^[\d.]+/.exec(settings.version)?.[0] ?? ''} with ${countOf(length, 'database')}`;
    return {
      ok: unreadable.length === 0,
      message: unreadable.length ? `${found}. This is missing to read it: ${unreadable.join(', ')}.` : `${found}.`,
      needs,
      remarks: remarksOf(settings),
      credentialEnds: await passwordEnds(c),
      found: length,
    };
  });
}

/** What the server is and holds. Throws SourceError. */
export function serverFacts(server: DatabaseServer): Promise<DatabaseFacts> {
  return withMariadb(server, async (c) => {
    const { version, log, expires } = await settingsOf(c);
    const sizes = await c.rows<{ name: string; tables: number; rows: number | string | null; bytes: number | string | null }>(
      'SELECT table_schema AS name, COUNT(*) AS tables, SUM(table_rows) AS `rows`, SUM(data_length + index_length) AS bytes FROM information_schema.tables GROUP BY table_schema',
    );
    const byName = new Map(sizes.map((s) => [s.name, s]));
    const databases = (await databaseNames(c)).map((name) => {
      const s = byName.get(name);
      return { name, tables: s?.tables ?? 0, rows: Number(s?.rows ?? 0), bytes: Number(s?.bytes ?? 0) };
    });
    return {
      kind: 'database',
      family: 'mariadb',
      version,
      databases,
      logs: { on: log === 1, hours: log === 1 && expires > 0 ? expires / 3600 : null },
    };
  });
}
