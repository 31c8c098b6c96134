import { escapePath, grouped } from '@lithodex/core';
import type { FoundContent, ScannedWorkload, ScanFind } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { cleanOf, findsOf, queueScan } from '../../acts/trust/scans';
import { pointFor } from '../../records/recover/point-access';
import { judgedPoints } from '../../records/trust/point-scans';
import { tracesOf } from '../../records/trust/seen-sums';
import { keepScanSettings, ruleFiles, rulesInForce, ruleSetNow, scanSettings } from '../../records/trust/scan-rules';

type ScanHandlers = Pick<Handlers, 'listScans' | 'listFinds' | 'findTraces' | 'pointScan' | 'startScan' | 'changeScanSettings'>;

const mostContents = 200;
const mostPlaces = 20;
const mostShown = 500;

/** What scans said of points. */
export function scanHandlers(deps: Deps): ScanHandlers {
  const { db, clock } = deps;
  const newestSet = async () => (await rulesInForce(db, (await scanSettings(db)).scanner)).id;
  return {
    async listScans() {
      const settings = await scanSettings(db);
      const set = await ruleSetNow(db, clock.now(), settings.scanner);
      const points = await judgedPoints(db, set.id, () => undefined);
      const names = await db('workload').select<{ id: number; name: string; kind: ScannedWorkload['kind'] }[]>('id', 'name', 'kind');
      const byId = new Map(names.map((w) => [w.id, w]));
      const count = { unscanned: 0, nothing: 0, clean: 0, suspect: 0, infected: 0 };
      const rows = [...grouped(points, (p) => p.workload_id)].flatMap(([id, own]): ScannedWorkload[] => {
        const workload = byId.get(id);
        if (!workload) return [];
        const newest = own.at(-1)!;
        count[newest.verdict]++;
        const having = (verdict: string) => own.filter((p) => p.verdict === verdict).length;
        return [
          {
            id,
            name: workload.name,
            kind: workload.kind,
            points: own.length,
            verdict: newest.verdict,
            newest: { id: newest.id, moment: newest.moment },
            scanned: newest.scan ? { at: newest.scan.scanned_at, rulesAt: newest.scan.rules_at, notLooked: newest.scan.not_looked } : null,
            lastClean: cleanOf(own),
            infected: having('infected'),
            suspect: having('suspect'),
            unscanned: having('unscanned'),
          },
        ];
      });
      const worth = { infected: 0, suspect: 1, unscanned: 2, nothing: 3, clean: 4 };
      const worst = (w: ScannedWorkload) => Math.min(worth[w.verdict], w.infected ? 0.5 : w.suspect ? 1.5 : 9);
      rows.sort((a, b) => worst(a) - worst(b) || a.name.localeCompare(b.name));
      return { settings, rules: { at: set.at, on: set.files.length }, rows, newest: count };
    },

    async listFinds({ query }) {
      const since = query.hours === undefined ? 0 : clock.now() - query.hours * 3_600_000;
      const contents = await foundContents(db, since, query.workload, query.q?.trim() ?? '');
      return { rows: contents.slice(0, mostContents), next: null, total: contents.length };
    },

    findTraces: ({ body, actor }) => tracesOf(db, body.sums, actor.remit),

    async pointScan({ params, actor }) {
      const point = await pointFor(db, params.id, actor);
      const judged = await judgedPoints(db, await newestSet(), (q) => void q.where({ 'p.workload_id': point.workload_id }));
      const own = judged.find((p) => p.id === point.id);
      const scan = own?.scan;
      const finds = (await findsOf(db, [point.id])).slice(0, mostShown);
      return {
        verdict: own?.verdict ?? 'unscanned',
        scanned: scan
          ? {
              at: scan.scanned_at,
              rulesAt: scan.rules_at,
              items: scan.items,
              bytes: scan.bytes,
              read: scan.bytes_read,
              notLooked: scan.not_looked,
              suspect: scan.suspect,
              infected: scan.infected,
            }
          : null,
        finds: finds.map(({ pointId: _, ...find }) => ({ ...find, path: escapePath(find.path) })),
        lastClean: cleanOf(judged),
      };
    },

    async startScan({ body, actor }) {
      const now = clock.now();
      const rows = await db('point')
        .whereIn('workload_id', body.workloads)
        .where({ state: 'visible' })
        .whereNot({ kind: 'log' })
        .modify((q) => {
          if (body.from !== null) void q.where('moment', '>=', body.from);
          if (body.to !== null) void q.where('moment', '<=', body.to);
        })
        .orderBy(['moment', 'ordinal'])
        .select<{ id: string; workload_id: number }[]>('id', 'workload_id');
      const newestOnly = body.from === null && body.to === null;
      const chosen = newestOnly ? [...new Map(rows.map((r) => [r.workload_id, r])).values()] : rows;
      const runId = await inTransaction(db, async (trx) => {
        const id = await queueScan(
          trx,
          now,
          chosen.map((p) => p.id),
          { person: actor.name, name: 'Scan' },
        );
        const detail = `${chosen.length} points of ${new Set(chosen.map((p) => p.workload_id)).size} workloads`;
        await appendAudit(trx, now, { actor: actor.name, action: 'scan.start', object: `run ${id}`, detail });
        return id;
      });
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId });
      return { runId };
    },

    async changeScanSettings({ body, actor }) {
      if (body.when !== 'never' && !(await ruleFiles(db)).some((r) => r.on) && body.scanner === '' && !body.sensitive)
        throw new ApiError('INVALID', undefined, 'No rules are on, so a scan would look for nothing. Switch some on first.');
      await inTransaction(db, async (trx) => {
        await keepScanSettings(trx, body);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'scan.settings', object: 'scans', detail: JSON.stringify(body) });
      });
      return {};
    },
  };
}

/** What was found, by content, the newest first. `q`: part of a sum, of the name of a rule or of an item. */
async function foundContents(db: Knex, since: number, workload: number | undefined, q: string): Promise<FoundContent[]> {
  type Row = Omit<ScanFind, 'path' | 'within'> & {
    path: Buffer; inner_path: string; id: string; moment: number; state: string; workload_id: number; name: string; newest: number;
  }; // prettier-ignore
  const newest = db('point as n')
    .whereRaw("n.workload_id = f.workload_id AND n.state = 'visible' AND n.kind <> 'log'")
    .max('n.moment')
    .as('newest');
  const rows = await db('scan_find as f')
    .join('point as p', 'p.id', 'f.point_id')
    .join('workload as w', 'w.id', 'f.workload_id')
    .where('p.moment', '>=', since)
    .modify((query) => {
      if (workload !== undefined) void query.where({ 'f.workload_id': workload });
      const like = `%${q.replace(/[\\%_]/g, '\\$&')}%`;
      if (q)
        void query.where(
          (w) =>
            void w
              .where('f.sum', q.toLowerCase())
              .orWhere('f.rule', 'like', like)
              .orWhere('f.inner_path', 'like', like)
              .orWhereRaw('CONVERT(f.path USING utf8mb4) LIKE ?', [like]),
        );
    })
    .orderBy('p.moment')
    .limit(100_000)
    .select<Row[]>(
      'f.path',
      'f.inner_path',
      'f.rule',
      'f.about',
      'f.grade',
      'f.size',
      'f.sum',
      'f.workload_id',
      'p.id',
      'p.moment',
      'p.state',
      'w.name',
      newest,
    );
  const contents = [...grouped(rows, (r) => `${r.sum} ${r.rule}`).values()].map((own): FoundContent => {
    const [first] = own as [Row, ...Row[]];
    const places = [...grouped(own, (r) => `${r.workload_id} ${r.path.toString('latin1')}\n${r.inner_path}`).values()].map((at) => {
      const [from, to] = [at[0]!, at.at(-1)!];
      return {
        workload: { id: from.workload_id, name: from.name },
        path: escapePath(from.path.toString('latin1')),
        within: from.inner_path,
        first: { id: from.id, moment: from.moment },
        last: { id: to.id, moment: to.moment },
        points: at.length,
      };
    });
    return {
      sum: first.sum,
      rule: first.rule,
      about: first.about,
      grade: first.grade,
      size: first.size,
      firstSeen: first.moment,
      lastSeen: own.at(-1)!.moment,
      stillThere: own.some((r) => r.state === 'visible' && r.moment === r.newest),
      points: new Set(own.map((r) => r.id)).size,
      places: places.slice(0, mostPlaces),
      otherPlaces: Math.max(0, places.length - mostPlaces),
    };
  });
  return contents.sort((a, b) => b.firstSeen - a.firstSeen);
}
