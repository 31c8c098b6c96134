import type { DatabaseRead, OtherRead, OtherType } from '../family';
import { quoted, quotedText, type MariadbConnection } from './connection';

/** Databases that belong to the server itself. */
export const ownDatabases = ['mysql', 'information_schema', 'performance_schema', 'sys'];
/** Storage that keeps versions of rows, so that one instant can be read while others write. */
const versionedStorage = 'InnoDB';

const settings =
  "SET NAMES utf8mb4;\nSET TIME_ZONE = '+00:00', FOREIGN_KEY_CHECKS = 0, UNIQUE_CHECKS = 0, SQL_MODE = 'NO_AUTO_VALUE_ON_ZERO';\n";

/** Names of the databases that are not the server's own. Throws SourceError. */
export async function databaseNames(c: MariadbConnection): Promise<string[]> {
  const rows = await c.rows<{ name: string }>('SELECT schema_name AS name FROM information_schema.schemata ORDER BY schema_name');
  return rows.map((r) => r.name).filter((name) => !ownDatabases.includes(name.toLowerCase()));
}

/** A body of several statements as the client program reads it. */
function bodyText(mode: string, body: string): string {
  return `SET NAMES utf8mb4;\nSET SQL_MODE = ${quotedText(mode)};\nDELIMITER ;;\n${body};;\nDELIMITER ;\n`;
}

/** The text that a SHOW CREATE gave; null where a right is missing. */
function shown(row: Record<string, string | null> | undefined, column: string): string | undefined {
  return row?.[column] ?? undefined;
}

/** What a database holds, without rows. Throws SourceError. */
export async function readDatabase(c: MariadbConnection, name: string): Promise<DatabaseRead> {
  // names are shown without their database where it is the one in use
  await c.run(`USE ${quoted(name)}`);
  const made = await c.row<Record<string, string>>(`SHOW CREATE DATABASE ${quoted(name)}`);
  const objects = await c.rows<{ name: string; type: string; engine: string | null }>(
    'SELECT table_name AS name, table_type AS type, engine FROM information_schema.tables WHERE table_schema = ? ORDER BY table_name',
    [name],
  );
  const tables: DatabaseRead['tables'][number][] = [];
  const others: OtherRead[] = [];
  for (const o of objects) {
    if (o.type === 'BASE TABLE' || o.type === 'SYSTEM VERSIONED') {
      const create = shown(await c.row(`SHOW CREATE TABLE ${quoted(o.name)}`), 'Create Table');
      if (create !== undefined)
        tables.push({ name: o.name, head: `${settings}\n${create};\n\n`, unversioned: o.engine !== versionedStorage });
    } else if (o.type === 'SEQUENCE') others.push(await sequence(c, o.name));
    else if (o.type === 'VIEW') {
      const create = shown(await c.row(`SHOW CREATE VIEW ${quoted(o.name)}`), 'Create View');
      if (create !== undefined) others.push({ type: 'view', name: o.name, text: `SET NAMES utf8mb4;\n${create};\n` });
    }
  }
  others.push(...(await bodies(c, name)));
  return { name, text: `${made!['Create Database']};\n`, tables, others };
}

async function sequence(c: MariadbConnection, name: string): Promise<OtherRead> {
  const create = shown(await c.row(`SHOW CREATE SEQUENCE ${quoted(name)}`), 'Create Table')!;
  const now = await c.row<{ next: number | string }>(`SELECT next_not_cached_value AS next FROM ${quoted(name)}`);
  return { type: 'sequence', name, text: `${create};\nDO SETVAL(${quoted(name)}, ${String(now!.next)}, 0);\n` };
}

async function bodies(c: MariadbConnection, database: string): Promise<OtherRead[]> {
  const found: OtherRead[] = [];
  const add = async (type: OtherType, what: string, name: string, column: string) => {
    const row = await c.row<Record<string, string | null>>(`SHOW CREATE ${what} ${quoted(name)}`);
    const body = shown(row, column);
    if (body !== undefined)
      found.push({ type, name: type === 'routine' ? `${what.toLowerCase()} ${name}` : name, text: bodyText(row!['sql_mode'] ?? '', body) });
  };
  for (const r of await c.rows<{ name: string; type: string }>(
    "SELECT routine_name AS name, routine_type AS type FROM information_schema.routines WHERE routine_schema = ? AND routine_type IN ('PROCEDURE', 'FUNCTION') ORDER BY routine_type, routine_name",
    [database],
  ))
    await add('routine', r.type, r.name, r.type === 'PROCEDURE' ? 'Create Procedure' : 'Create Function');
  for (const t of await c.rows<{ name: string }>(
    'SELECT trigger_name AS name FROM information_schema.triggers WHERE trigger_schema = ? ORDER BY trigger_name',
    [database],
  ))
    await add('trigger', 'TRIGGER', t.name, 'SQL Original Statement');
  for (const e of await c.rows<{ name: string }>(
    'SELECT event_name AS name FROM information_schema.events WHERE event_schema = ? ORDER BY event_name',
    [database],
  ))
    await add('event', 'EVENT', e.name, 'Create Event');
  return found;
}

/** Text that makes the accounts and gives them their rights; '' when they may not be read. */
export async function accountsText(c: MariadbConnection): Promise<string> {
  try {
    const users = await c.rows<{ user: string; host: string }>(
      "SELECT user, host FROM mysql.global_priv WHERE NOT JSON_VALUE(priv, '$.is_role') <=> '1' AND user <> 'mariadb.sys' ORDER BY user, host",
    );
    const texts: string[] = [];
    for (const { user, host } of users) {
      const account = `${quotedText(user)}@${quotedText(host)}`;
      const made = await c.row<Record<string, string>>(`SHOW CREATE USER ${account}`);
      texts.push(`${Object.values(made!)[0]!.replace(/^CREATE USER/, 'CREATE USER IF NOT EXISTS')};`);
      for (const grant of await c.rows<Record<string, string>>(`SHOW GRANTS FOR ${account}`)) texts.push(`${Object.values(grant)[0]!};`);
    }
    return `${texts.join('\n')}\n`;
  } catch {
    return '';
  }
}
