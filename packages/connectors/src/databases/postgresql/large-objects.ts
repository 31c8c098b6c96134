import { countOf, formatBytes } from '@lithodex/core';
import type { PgConnection } from './connection';
import { headed, quotedText } from './dump-text';

/** Bytes of all large objects of a database that are read at most: they are written as text beside everything else, and held in memory. */
const mostLarge = 32 << 20;
/** Bytes a page of a large object holds; pages that were never written are not there. */
const pageBytes = 2048;

interface Page {
  readonly oid: string;
  readonly owner: string;
  /** Null for an object that is empty. */
  readonly pageno: number | null;
  /** Hexadecimal. */
  readonly data: string | null;
}

/** Large objects of a database as statements that make them, each with a heading; and in words why they are not read, where they are not. Throws SourceError. */
export async function largeObjects(c: PgConnection): Promise<{ readonly text: string; readonly leftOut: string | undefined }> {
  const count = await c.row<{ n: string }>('SELECT count(*)::text AS n FROM pg_largeobject_metadata');
  const n = Number(count?.n ?? 0);
  if (!n) return { text: '', leftOut: undefined };
  const notRead = (why: string) => ({ text: '', leftOut: `${countOf(n, 'large object')} not read: ${why}` });
  const may = await c.row<{ may: boolean }>("SELECT has_table_privilege('pg_catalog.pg_largeobject', 'SELECT') AS may");
  if (!may?.may) return notRead('the account may not read pg_largeobject');
  const size = await c.row<{ bytes: string }>('SELECT COALESCE(sum(length(data)), 0)::text AS bytes FROM pg_largeobject');
  const bytes = Number(size?.bytes ?? 0);
  if (bytes > mostLarge) return notRead(`they take ${formatBytes(bytes)}, and ${formatBytes(mostLarge)} are read at most`);
  const pages = await c.rows<Page>(
    `SELECT m.oid::text AS oid, quote_ident(pg_get_userbyid(m.lomowner)) AS owner, l.pageno, encode(l.data, 'hex') AS data
     FROM pg_largeobject_metadata m LEFT JOIN pg_largeobject l ON l.loid = m.oid ORDER BY m.oid, l.pageno`,
  );
  const objects = new Map<string, { readonly owner: string; readonly lines: string[] }>();
  for (const { oid, owner, pageno, data } of pages) {
    const into = objects.get(oid) ?? { owner, lines: [`SELECT pg_catalog.lo_create(${oid});`] };
    objects.set(oid, into);
    if (pageno !== null && data) into.lines.push(`SELECT pg_catalog.lo_put(${oid}, ${pageno * pageBytes}, ${quotedText(`\\x${data}`)});`);
  }
  const text = [...objects].map(([oid, { owner, lines }]) =>
    headed({ type: 'BLOB', schema: '-', name: oid }, `${lines.join('\n')}\n\nALTER LARGE OBJECT ${oid} OWNER TO ${owner};`),
  );
  return { text: text.join(''), leftOut: undefined };
}
