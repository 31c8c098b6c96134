import type { SensitiveFileRow } from '@lithodex/contract';
import { escapePath, grouped, shippedPatterns } from '@lithodex/core';
import type { Knex } from 'knex';

/** For each workload in which sensitive data was looked for, the series whose points tell: that of the newest of them. */
export async function lookedSeries(db: Knex): Promise<{ workload: number; series: number; first: number; newest: number }[]> {
  const rows = await db('point_scan as s')
    .join('point as p', 'p.id', 's.point_id')
    .where({ 's.sensitive_too': true })
    .groupBy('p.workload_id', 'p.series_no')
    .select<{ workload: number; series: number; first: number; newest: number }[]>(
      'p.workload_id as workload',
      'p.series_no as series',
      db.raw('MIN(p.moment) AS first'),
      db.raw('MAX(p.moment) AS newest'),
    );
  return [...grouped(rows, (r) => r.workload).values()].map((own) => own.reduce((a, b) => (b.newest > a.newest ? b : a)));
}

/** Which files are asked for. */
export interface FilesAsked {
  readonly workload?: number | undefined;
  readonly pattern?: string | undefined;
  readonly q?: string | undefined;
}

/** Rows of files that stand in the newest points. */
export function standingFiles(db: Knex, series: readonly number[], { workload, pattern, q }: FilesAsked): Knex.QueryBuilder {
  return db('sensitive_file as f')
    .whereIn('f.series_no', series)
    .whereNull('f.to_at')
    .modify((query) => {
      if (workload !== undefined) void query.where({ 'f.workload_id': workload });
      if (pattern !== undefined) void query.where({ 'f.pattern': pattern });
      const like = `%${(q ?? '').trim().replace(/[\\%_]/g, '\\$&')}%`;
      if (q?.trim())
        void query.where((w) => void w.whereRaw('CONVERT(f.path USING utf8mb4) LIKE ?', [like]).orWhere('f.owner', 'like', like));
    });
}

/** Files with sensitive data, those with most of it first. */
export async function sensitiveFileRows(
  db: Knex,
  series: readonly number[],
  asked: FilesAsked,
  { offset, limit }: { readonly offset: number; readonly limit: number },
): Promise<SensitiveFileRow[]> {
  const files = await standingFiles(db, series, asked)
    .groupBy('f.series_no', 'f.path_hash')
    .orderBy('findings', 'desc')
    .orderBy('f.path_hash')
    .offset(offset)
    .limit(limit)
    .select<{ series_no: number; path_hash: Buffer; findings: number }[]>(
      'f.series_no',
      'f.path_hash',
      db.raw('SUM(f.findings) AS findings'),
    );
  if (!files.length) return [];
  type Row = { series_no: number; path_hash: Buffer; path: Buffer; pattern: string; findings: number; sample: string; owner: string; mode: number; from_at: number; workload_id: number; name: string }; // prettier-ignore
  const rows = await standingFiles(db, series, { workload: asked.workload, pattern: asked.pattern })
    .join('workload as w', 'w.id', 'f.workload_id')
    .whereIn(
      'f.path_hash',
      files.map((f) => f.path_hash),
    )
    .select<Row[]>('f.*', 'w.name');
  const keyOf = (r: { series_no: number; path_hash: Buffer }) => `${r.series_no} ${r.path_hash.toString('hex')}`;
  const byFile = grouped(rows, keyOf);
  return files.flatMap((file): SensitiveFileRow[] => {
    const own = byFile.get(keyOf(file));
    const [first] = own ?? [];
    if (!own || !first) return [];
    return [
      {
        workload: { id: first.workload_id, name: first.name },
        path: escapePath(first.path.toString('latin1')),
        owner: first.owner,
        readers: first.mode & 0o004 ? 'everybody' : first.mode & 0o040 ? 'group' : 'owner',
        since: Math.min(...own.map((r) => r.from_at)),
        counts: own
          .map(({ pattern, findings, sample }) => ({ pattern, findings, sample }))
          .sort((a, b) => b.findings - a.findings || a.pattern.localeCompare(b.pattern)),
        findings: Number(file.findings),
      },
    ];
  });
}

const namedPatterns = 3;

/** What sensitive data stood in a series before or at a point: null where it was not looked for, or none was there. */
export async function exposedAt(
  db: Knex,
  { series_no, moment }: { readonly series_no: number; readonly moment: number },
): Promise<{ files: number; findings: number; patterns: string[] } | null> {
  const there = () =>
    db('sensitive_file')
      .where({ series_no })
      .where('from_at', '<=', moment)
      .where((q) => void q.whereNull('to_at').orWhere('to_at', '>=', moment));
  const rows = await there()
    .groupBy('pattern')
    .orderBy('findings', 'desc')
    .select<{ pattern: string; findings: number }[]>('pattern', db.raw('SUM(findings) AS findings'));
  if (!rows.length) return null;
  const { files } = await there().first<{ files: number }>(db.raw('COUNT(DISTINCT path_hash) AS files'));
  const names = new Map(shippedPatterns.map((p) => [p.id, p.name]));
  return {
    files: Number(files),
    findings: rows.reduce((sum, r) => sum + Number(r.findings), 0),
    patterns: rows.slice(0, namedPatterns).map((r) => names.get(r.pattern) ?? r.pattern),
  };
}
