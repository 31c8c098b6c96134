import { bytesOfText, grouped, shippedPatterns } from '@lithodex/core';
import type { Sensitive, SensitiveJump, SensitiveRow } from '@lithodex/contract';
import { stringify } from 'csv-stringify/sync';
import { createHash } from 'node:crypto';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { numberAt } from '../../base/http/cursor';
import type { Deps } from '../../acts/deps';
import { pointRefs } from '../../records/targets/refs';
import { scanSettings } from '../../records/trust/scan-rules';
import { lookedSeries, sensitiveFileRows, standingFiles } from '../../records/trust/sensitive-files';

type SensitiveHandlers = Pick<Handlers, 'listSensitive' | 'sensitiveFiles' | 'sensitiveCsv' | 'showSensitive'>;

const dayMs = 86_400_000;
const weekMs = 7 * dayMs;
/** So much of what was there the day before makes a jump worth naming, and at least so many findings. */
const jumpShare = 0.1;
const leastJump = 20;
const mostCsv = 100_000;
const csvAtOnce = 1000;
const askMs = 60_000;

interface Step {
  readonly pattern: string;
  readonly workload_id: number;
  readonly at: number;
  readonly findings: number;
  readonly files: number;
}

/** Sensitive data that scans found in points. */
export function sensitiveHandlers(deps: Deps): SensitiveHandlers {
  const { db, clock, secrets } = deps;

  /** How findings came and went, each with the instant of its point. */
  async function stepsOf(series: readonly number[], workload: number | undefined): Promise<Step[]> {
    const steps = (column: 'from_at' | 'to_at', sign: 1 | -1) =>
      db('sensitive_file')
        .whereIn('series_no', series)
        .whereNotNull(column)
        .modify((q) => {
          if (workload !== undefined) void q.where({ workload_id: workload });
        })
        .groupBy('pattern', 'workload_id', column)
        .select<Step[]>(
          'pattern',
          'workload_id',
          `${column} as at`,
          db.raw('? * SUM(findings) AS findings', [sign]),
          db.raw('? * COUNT(*) AS files', [sign]),
        );
    const all = [...(await steps('from_at', 1)), ...(await steps('to_at', -1))];
    return all.map((s) => ({ ...s, findings: Number(s.findings), files: Number(s.files) }));
  }

  return {
    async listSensitive({ query }): Promise<Sensitive> {
      const now = clock.now();
      const looked = (await lookedSeries(db)).filter((l) => query.workload === undefined || l.workload === query.workload);
      const series = looked.map((l) => l.series);
      const steps = await stepsOf(series, query.workload);
      const days = Array.from({ length: query.days }, (_, i) => now - (query.days - 1 - i) * dayMs);
      const upTo = (at: number, which: (s: Step) => boolean) =>
        steps.reduce((sum, s) => (s.at <= at && which(s) ? { findings: sum.findings + s.findings, files: sum.files + s.files } : sum), {
          findings: 0,
          files: 0,
        });
      const there = new Set(steps.map((s) => s.pattern));
      const lines = shippedPatterns
        .filter((p) => there.has(p.id))
        .map((p) => ({ pattern: p.id, findings: days.map((at) => upTo(at, (s) => s.pattern === p.id).findings) }));
      const names = new Map(
        (
          await db('workload')
            .whereIn(
              'id',
              looked.map((l) => l.workload),
            )
            .select<{ id: number; name: string }[]>('id', 'name')
        ).map((w) => [w.id, w.name]),
      );
      const named = (id: number) => ({ id, name: names.get(id) ?? '' });
      const open = await standingFiles(db, series, { workload: query.workload })
        .whereRaw('f.mode & 4 <> 0')
        .groupBy('f.workload_id', 'f.pattern')
        .select<{ workload_id: number; pattern: string; findings: number }[]>(
          'f.workload_id',
          'f.pattern',
          db.raw('SUM(f.findings) AS findings'),
        );
      const rows = [...grouped(steps, (s) => `${s.workload_id} ${s.pattern}`).values()].map((own): SensitiveRow => {
        const { workload_id: id, pattern } = own[0]!;
        const isOwn = (s: Step) => s.workload_id === id && s.pattern === pattern;
        const [is, was] = [upTo(now, isOwn), upTo(now - weekMs, isOwn)];
        const first = looked.find((l) => l.workload === id)!.first;
        return {
          workload: named(id),
          pattern,
          ...is,
          since: first > now - weekMs ? null : is.findings - was.findings,
          open: Number(open.find((o) => o.workload_id === id && o.pattern === pattern)?.findings ?? 0),
        };
      });
      const risen = (r: SensitiveRow) => r.since ?? r.findings;
      const told = rows.filter((r) => r.findings || r.since);
      told.sort((a, b) => Math.abs(risen(b)) - Math.abs(risen(a)) || b.findings - a.findings);
      return {
        patterns: shippedPatterns.map(({ id, name, book, source }) => ({ id, name, book, source })),
        days,
        lines,
        rows: told,
        jump: jumpIn(steps, days, looked, named),
        on: (await scanSettings(db)).sensitive,
        looked: looked.length,
        lookedAt: looked.length ? Math.max(...looked.map((l) => l.newest)) : null,
      };
    },

    async sensitiveFiles({ query }) {
      const series = (await lookedSeries(db)).map((l) => l.series);
      const offset = numberAt(query.cursor, 0);
      const rows = await sensitiveFileRows(db, series, query, { offset, limit: query.limit + 1 });
      const sums = await standingFiles(db, series, query).first<{ findings: number | null; files: number }>(
        db.raw('SUM(f.findings) AS findings'),
        db.raw('COUNT(DISTINCT f.series_no, f.path_hash) AS files'),
      );
      return {
        rows: rows.slice(0, query.limit),
        next: rows.length > query.limit ? String(offset + query.limit) : null,
        files: Number(sums.files),
        findings: Number(sums.findings ?? 0),
      };
    },

    async sensitiveCsv({ query, res }) {
      const series = (await lookedSeries(db)).map((l) => l.series);
      res.attachment('sensitive-files.csv').type('text/csv');
      res.write(asCsv([['workload', 'path', 'owner', 'readable by', 'pattern', 'findings', 'covered sample', 'since']]));
      for (let offset = 0; offset < mostCsv && !res.closed; offset += csvAtOnce) {
        const rows = await sensitiveFileRows(db, series, query, { offset, limit: csvAtOnce });
        const cells = rows.flatMap((r) =>
          r.counts.map((c) => [
            r.workload.name,
            r.path,
            r.owner,
            r.readers,
            c.pattern,
            c.findings,
            c.sample,
            new Date(r.since).toISOString(),
          ]),
        );
        if (cells.length) res.write(asCsv(cells));
        if (rows.length < csvAtOnce) break;
      }
      res.end();
    },

    async showSensitive({ body, actor }) {
      const looked = found((await lookedSeries(db)).find((l) => l.workload === body.workload));
      const path = bytesOfText(body.path);
      const hash = createHash('md5').update(Buffer.from(path, 'latin1')).digest();
      const row = found(
        await db('sensitive_file')
          .where({ series_no: looked.series, path_hash: hash, pattern: body.pattern, to_at: null })
          .first<{ from_at: number } | undefined>('from_at'),
      );
      const point = await db('point')
        .where({ series_no: looked.series, state: 'visible' })
        .where('moment', '>=', row.from_at)
        .orderBy('moment', 'desc')
        .first<{ id: string; moment: number } | undefined>('id', 'moment');
      const [ref] = point ? await pointRefs(db, secrets, [point.id]) : [];
      if (!point || !ref) throw new ApiError('POINT_GONE');
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'sensitive.show',
          object: `workload ${body.workload}`,
          detail: `${body.pattern} in ${body.path}: ${body.reason}`.slice(0, 2000),
        }),
      );
      const findings = await deps.movers.ask({ ask: 'sensitiveIn', point: ref, path, pattern: body.pattern }, askMs);
      return { pointId: point.id, moment: point.moment, findings };
    },
  };
}

/** The largest rise from one day to the next, where it is large, and what it came of. */
function jumpIn(
  steps: readonly Step[],
  days: readonly number[],
  looked: Awaited<ReturnType<typeof lookedSeries>>,
  named: (id: number) => SensitiveJump['workload'],
): SensitiveJump | null {
  let best: SensitiveJump | null = null;
  const totalAt = (at: number) => steps.reduce((sum, s) => (s.at <= at ? sum + s.findings : sum), 0);
  for (let i = 1; i < days.length; i++) {
    const [from, to] = [days[i - 1]!, days[i]!];
    const before = totalAt(from);
    const added = totalAt(to) - before;
    // before the first day nothing was known
    if (before === 0 || added < leastJump || added < before * jumpShare || added <= (best?.added ?? 0)) continue;
    const came = steps.filter((s) => s.at > from && s.at <= to);
    const most = (keyOf: (s: Step) => string | number) =>
      [...grouped(came, keyOf).values()]
        .map((own) => ({ own: own[0]!, sum: own.reduce((sum, s) => sum + s.findings, 0) }))
        .reduce((a, b) => (b.sum > a.sum ? b : a)).own;
    const { workload_id: id, at } = most((s) => s.workload_id);
    const { pattern } = [...came.filter((s) => s.workload_id === id)].sort((a, b) => b.findings - a.findings)[0]!;
    const isNew = (looked.find((l) => l.workload === id)?.first ?? 0) > from;
    best = { at, added, workload: named(id), pattern, why: isNew ? 'newWorkload' : 'newData' };
  }
  return best;
}

const asCsv = (rows: readonly (readonly (string | number)[])[]): string =>
  stringify(rows as (string | number)[][], { escape_formulas: true, record_delimiter: 'windows' });
