import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { DatabaseRead, OtherType, TableRead } from '../family';
import type { PgConnection } from './connection';
import { entriesOf, headed, inHeading, qualified, quoted, quotedText, type DumpEntry } from './dump-text';
import { largeObjects } from './large-objects';
import { startProgram } from './programs';

/** Types of entries that are made when rows are there; everything that follows the first of them is. */
const afterRows = new Set([
  'CONSTRAINT',
  'FK CONSTRAINT',
  'CHECK CONSTRAINT',
  'INDEX',
  'INDEX ATTACH',
  'STATISTICS',
  'RULE',
  'TRIGGER',
  'EVENT TRIGGER',
  'ROW SECURITY',
  'POLICY',
  'PUBLICATION',
  'PUBLICATION TABLE',
  'PUBLICATION TABLES IN SCHEMA',
  'SUBSCRIPTION',
  'DEFAULT ACL',
  'ACL',
]);
const ofDatabase = new Set(['DATABASE', 'DATABASE PROPERTIES']);
const otherTypes: Readonly<Record<string, OtherType>> = {
  SEQUENCE: 'sequence',
  VIEW: 'view',
  'MATERIALIZED VIEW': 'view',
  FUNCTION: 'routine',
  PROCEDURE: 'routine',
  AGGREGATE: 'routine',
};

export const settings =
  "SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSELECT pg_catalog.set_config('search_path', '', false);\nSET check_function_bodies = false;\nSET xmloption = content;\nSET row_security = off;\n";

const ownSchemas = "n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'";
const noExtension = (classOf: string, id: string) =>
  `NOT EXISTS (SELECT 1 FROM pg_depend x WHERE x.classid = '${classOf}'::regclass AND x.objid = ${id} AND x.deptype = 'e')`;

/** A table of a database, and what is needed to read its rows. */
export interface TableFound extends TableRead {
  readonly schema: string;
  readonly table: string;
  /** What rows begin with: which columns are written; undefined where it holds none of its own. */
  readonly copy: string | undefined;
  /** What follows the rows: keys, indexes, triggers. */
  readonly tail: string;
}

interface Relation {
  readonly schema: string;
  readonly name: string;
  readonly kind: string;
  readonly populated: boolean;
  readonly columns: string | null;
}

interface Tag {
  readonly type: string;
  readonly schema: string;
  readonly name: string;
  readonly owner: string;
  readonly owner_schema: string;
}

const keyOf = (...parts: string[]) => parts.map(inHeading).join('\0');

/** The headings of everything that belongs to a table or view. */
const tagsSql = `
WITH r AS (SELECT c.oid, n.nspname AS schema, c.relname AS name, c.relkind FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm') AND ${ownSchemas})
SELECT t.type, t.schema, t.name, r.name AS owner, r.schema AS owner_schema FROM r CROSS JOIN LATERAL (
  SELECT unnest(ARRAY['TABLE', 'FOREIGN TABLE', 'VIEW', 'MATERIALIZED VIEW', 'ROW SECURITY', 'TABLE ATTACH']) AS type, r.schema, r.name
  UNION ALL SELECT 'DEFAULT', r.schema, r.name || ' ' || a.attname FROM pg_attrdef d JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum WHERE d.adrelid = r.oid
  UNION ALL SELECT CASE k.contype WHEN 'f' THEN 'FK CONSTRAINT' WHEN 'c' THEN 'CHECK CONSTRAINT' ELSE 'CONSTRAINT' END, r.schema, r.name || ' ' || k.conname FROM pg_constraint k WHERE k.conrelid = r.oid
  UNION ALL SELECT x.type, r.schema, i.relname FROM pg_index d JOIN pg_class i ON i.oid = d.indexrelid, unnest(ARRAY['INDEX', 'INDEX ATTACH']) AS x (type) WHERE d.indrelid = r.oid
  UNION ALL SELECT 'TRIGGER', r.schema, r.name || ' ' || g.tgname FROM pg_trigger g WHERE g.tgrelid = r.oid AND NOT g.tgisinternal
  UNION ALL SELECT 'RULE', r.schema, r.name || ' ' || w.rulename FROM pg_rewrite w WHERE w.ev_class = r.oid
  UNION ALL SELECT 'POLICY', r.schema, r.name || ' ' || p.polname FROM pg_policy p WHERE p.polrelid = r.oid
  UNION ALL SELECT 'STATISTICS', n.nspname, s.stxname FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE s.stxrelid = r.oid
  UNION ALL SELECT x.type, n.nspname, s.relname FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S' JOIN pg_namespace n ON n.oid = s.relnamespace, unnest(ARRAY['SEQUENCE', 'SEQUENCE OWNED BY']) AS x (type) WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = r.oid AND d.deptype IN ('a', 'i')
  UNION ALL SELECT x.type, r.schema, y.word || ' ' || quote_ident(r.name) FROM unnest(ARRAY['COMMENT', 'ACL']) AS x (type), unnest(ARRAY['TABLE', 'VIEW', 'MATERIALIZED VIEW', 'FOREIGN TABLE']) AS y (word)
  UNION ALL SELECT x.type, r.schema, 'COLUMN ' || quote_ident(r.name) || '.' || quote_ident(a.attname) FROM pg_attribute a, unnest(ARRAY['COMMENT', 'ACL']) AS x (type) WHERE a.attrelid = r.oid AND a.attnum > 0 AND NOT a.attisdropped
) t`;

/** The texts of a database without rows, as the dump program writes them: at an instant that a transaction holds, where one is given. Throws SourceError. */
async function dumpText(server: DatabaseServer, address: string, database: string, snapshot: string | undefined): Promise<string> {
  const args = ['--schema-only', '--create', '--no-tablespaces', '--no-subscriptions', '--lock-wait-timeout=60000', '--encoding=UTF8'];
  const program = startProgram('pg_dump', server, address, database, [...args, ...(snapshot ? [`--snapshot=${snapshot}`] : [])]);
  const parts: Buffer[] = [];
  for await (const data of program.output as AsyncIterable<Buffer>) parts.push(data);
  await program.end();
  return Buffer.concat(parts).toString();
}

/** Statements that set sequences to where they stand, by schema and name. */
async function sequenceValues(c: PgConnection): Promise<Map<string, string>> {
  const names = await c.rows<{ schema: string; name: string }>(
    `SELECT n.nspname AS schema, c.relname AS name FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'S' AND ${ownSchemas} AND ${noExtension('pg_class', 'c.oid')}`,
  );
  const atOnce = 200;
  const found = new Map<string, string>();
  for (let i = 0; i < names.length; i += atOnce) {
    const part = names.slice(i, i + atOnce);
    const each = part.map(({ schema, name }, at) => `SELECT ${at} AS at, last_value, is_called FROM ${quoted(schema)}.${quoted(name)}`);
    for (const row of await c.rows<{ at: number; last_value: string; is_called: boolean }>(each.join(' UNION ALL '))) {
      const { schema, name } = part[row.at]!;
      const which = quotedText(`${quoted(schema)}.${quoted(name)}`);
      const text = `SELECT pg_catalog.setval(${which}, ${row.last_value}, ${row.is_called});`;
      found.set(keyOf(schema, name), headed({ type: 'SEQUENCE SET', schema, name }, text));
    }
  }
  return found;
}

const textOf = (entries: readonly DumpEntry[]) => entries.map((e) => `${e.text}\n`).join('\n');

export interface DatabaseFound extends DatabaseRead {
  readonly tables: readonly TableFound[];
}

/** What a database holds, without rows: seen through a connection to it, whose transaction may hold an instant. Throws SourceError. */
export async function readDatabase(
  c: PgConnection,
  server: DatabaseServer,
  name: string,
  snapshot: string | undefined,
): Promise<DatabaseFound> {
  const relations = await c.rows<Relation>(
    `SELECT n.nspname AS schema, c.relname AS name, c.relkind AS kind, c.relispopulated AS populated,
       (SELECT string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '') AS columns
     FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'f', 'm') AND ${ownSchemas} AND ${noExtension('pg_class', 'c.oid')} ORDER BY 1, 2`,
  );
  const tags = new Map((await c.rows<Tag>(tagsSql)).map((t) => [keyOf(t.type, t.schema, t.name), keyOf(t.owner_schema, t.owner)]));
  const all = entriesOf(await dumpText(server, c.address, name, snapshot));
  const values = await sequenceValues(c);
  const large = await largeObjects(c);
  const isDatabase = (e: DumpEntry) => ofDatabase.has(e.type) || (e.schema === '-' && e.name.startsWith('DATABASE '));
  const how = all.filter(isDatabase);
  if (!how.length) throw new SourceError('DUMP_UNREADABLE', `${name}: it does not say how to make the database`);
  const entries = all.filter((e) => !isDatabase(e));
  const first = entries.findIndex((e) => afterRows.has(e.type));
  const split = first < 0 ? entries.length : first;
  const owned = new Map<string, { before: DumpEntry[]; after: DumpEntry[]; values: string }>();
  const others: { type: OtherType; entry: DumpEntry }[] = [];
  const partOf = (key: string) => owned.get(key) ?? owned.set(key, { before: [], after: [], values: '' }).get(key)!;
  entries.forEach((entry, i) => {
    const owner = tags.get(keyOf(entry.type, entry.schema, entry.name));
    if (owner !== undefined) {
      const part = partOf(owner);
      (i < split ? part.before : part.after).push(entry);
      if (entry.type === 'SEQUENCE') part.values += values.get(keyOf(entry.schema, entry.name)) ?? '';
    }
    const type = otherTypes[entry.type];
    if (!type || (type === 'sequence' && owner !== undefined)) return;
    others.push({ type, entry });
  });
  const tables = relations
    .filter((r) => r.kind !== 'm')
    .map(({ schema, name: table, kind, columns }): TableFound => {
      const part = partOf(keyOf(schema, table));
      return {
        name: qualified(schema, table),
        schema,
        table,
        head: `${settings}\n${textOf(part.before)}\n`,
        tail: `\n${textOf(part.after)}${part.values}`,
        copy: kind === 'r' ? `${quoted(schema)}.${quoted(table)}${columns === null ? '' : ` (${columns})`}` : undefined,
        unversioned: false,
      };
    });
  const filled = new Set(relations.filter((r) => r.kind === 'm' && r.populated).map((r) => keyOf(r.schema, r.name)));
  const refreshed = new Map(
    entries
      .filter((e) => e.type === 'MATERIALIZED VIEW' && filled.has(keyOf(e.schema, e.name)))
      .map((e) => {
        const statement = `REFRESH MATERIALIZED VIEW ${quoted(e.schema)}.${quoted(e.name)};`;
        return [keyOf(e.schema, e.name), headed({ ...e, type: 'MATERIALIZED VIEW DATA' }, statement)] as const;
      }),
  );
  return {
    name,
    text: textOf(how.map((e) => ({ ...e, text: `${e.text.split(/^\\(?:connect|(?:un)?restrict) /m)[0]!.trimEnd()}\n` }))),
    tables,
    others: others.map(({ type, entry }) => {
      const key = keyOf(entry.schema, entry.name);
      const part = type === 'view' ? owned.get(key) : undefined;
      const rest = part ? [...part.before, ...part.after].filter((e) => e !== entry) : [];
      const value = type === 'sequence' ? values.get(key) : refreshed.get(key);
      return { type, name: `${entry.schema}.${entry.name}`, text: `${settings}\n${textOf([entry, ...rest])}${value ?? ''}` };
    }),
    around: {
      before: `${settings}\n${textOf(entries.slice(0, split))}`,
      after: `${settings}\n${textOf(entries.slice(split))}${[...values.values()].join('')}${[...refreshed.values()].join('')}${large.text}`,
    },
    ...(large.leftOut !== undefined && { leftOut: large.leftOut }),
  };
}
