import type { DrilledWorkload, DrillRow } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { nextRota, rotaNow, type OnRota } from '../../acts/trust/drill-rota';
import { queueDrills } from '../../acts/trust/drills';
import {
  drillSettings,
  evidenceSum,
  failedEvidence,
  firstFailed,
  keepDrillPlan,
  keepDrillSettings,
  type DrillColumns,
  type DrillEvidence,
} from '../../records/trust/drill-rows';

type DrillHandlers = Pick<
  Handlers,
  'listDrills' | 'startDrill' | 'listDrilled' | 'drillEvidence' | 'changeDrillPlan' | 'changeDrillSettings'
>;

const mostShown = 200;
const dayMs = 86_400_000;

/** How far restores are proven. */
export function drillHandlers(deps: Deps): DrillHandlers {
  const { db, clock, config } = deps;
  return {
    async listDrills() {
      const now = clock.now();
      const settings = await drillSettings(db);
      const proven = await provenAt(db);
      const rota = await rotaNow(db, now);
      const failed = await failedEvidence(
        db,
        rota.flatMap((on) => on.last ?? []),
      );
      const rows = rota.map((on) => toDrilled(on, proven.get(on.workload.id) ?? null, on.last && failed.get(on.last.id)));
      const since = now - settings.within * dayMs;
      return {
        settings,
        next: settings.on ? nextRota(settings, config.zone, now) : null,
        rows,
        coverage: {
          of: rows.length,
          proven: rows.filter((r) => r.proven !== null && r.proven >= since).length,
          failed: rows.filter((r) => r.last?.passed === false).length,
        },
      };
    },

    async startDrill({ body, actor }) {
      const now = clock.now();
      const runId = await inTransaction(db, async (trx) => {
        const id = await queueDrills(trx, now, body.workloads, { person: actor.name, name: 'Drill' });
        const detail = JSON.stringify({ workloads: body.workloads.slice(0, 50), count: body.workloads.length });
        await appendAudit(trx, now, { actor: actor.name, action: 'drill.start', object: `run ${id}`, detail });
        return id;
      });
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId });
      return { runId };
    },

    async listDrilled({ query }) {
      const rows = await evidenceRows(db, (q) => {
        if (query.workload !== undefined) void q.where({ 'd.workload_id': query.workload });
        if (query.run !== undefined) void q.where({ 'd.run_id': query.run });
      });
      return { rows };
    },

    async drillEvidence({ params }) {
      const [row] = await evidenceRows(db, (q) => void q.where({ 'd.id': params.id }));
      if (!row) throw new ApiError('NOT_FOUND');
      return row;
    },

    async changeDrillPlan({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        const workload = await trx('workload').where({ id: params.id }).first<{ name: string } | undefined>('name');
        if (!workload) throw new ApiError('NOT_FOUND');
        await keepDrillPlan(trx, params.id, body);
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'drill.plan',
          object: `workload ${params.id}`,
          detail: JSON.stringify({ name: workload.name, ...body }),
        });
      });
      return {};
    },

    async changeDrillSettings({ body, actor }) {
      await inTransaction(db, async (trx) => {
        await keepDrillSettings(trx, body);
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'drill.settings',
          object: 'drills',
          detail: JSON.stringify(body),
        });
      });
      return {};
    },
  };
}

/** When a drill of each workload last passed. */
async function provenAt(db: Knex): Promise<Map<number, number>> {
  const rows = await db('drill')
    .where({ passed: true })
    .groupBy('workload_id')
    .max({ at: 'at' })
    .select<{ workload_id: number; at: number }[]>('workload_id');
  return new Map(rows.map((r) => [r.workload_id, r.at]));
}

function toDrilled(
  { workload: w, plan, last, cannot, open, turn }: OnRota,
  proven: number | null,
  failed: DrillEvidence | undefined,
): DrilledWorkload {
  return {
    id: w.id,
    name: w.name,
    kind: w.kind,
    plan,
    newest: { id: w.point_id, moment: w.moment },
    last: last
      ? { id: last.id, at: last.at, passed: last.passed === 1, usableMs: last.usable_ms, why: failed ? firstFailed(failed) : '' }
      : null,
    proven,
    open,
    turn,
    cannot,
  };
}

/** Evidence, held against what the audit trail says of it, the newest first. */
async function evidenceRows(db: Knex, which: (q: Knex.QueryBuilder) => void): Promise<DrillRow[]> {
  const rows = await db('drill as d')
    .join('workload as w', 'w.id', 'd.workload_id')
    .modify(which)
    .orderBy('d.at', 'desc')
    .limit(mostShown)
    .select<(DrillColumns & { name: string; kind: KindName })[]>('d.*', 'w.name', 'w.kind');
  const said = await auditOf(
    db,
    rows.map((r) => r.id),
  );
  return rows.map((row): DrillRow => {
    const evidence = fromJson<DrillEvidence>(row.evidence);
    const { workload: _, pointId, pointMoment, at, ...shown } = evidence;
    const entry = said.get(row.id);
    return {
      ...shown,
      id: row.id,
      runId: row.run_id,
      workload: { id: row.workload_id, name: row.name, kind: row.kind },
      point: { id: pointId, moment: pointMoment },
      at,
      passed: row.passed === 1,
      sum: row.sum,
      audit: entry?.seq ?? 0,
      sealed: entry?.sum === row.sum && evidenceSum(row.id, evidence) === row.sum,
    };
  });
}

async function auditOf(db: Knex, ids: readonly string[]): Promise<Map<string, { readonly seq: number; readonly sum: string }>> {
  const rows = await db('audit')
    .where({ action: 'drill.done' })
    .whereIn(
      'object',
      ids.map((id) => `drill ${id}`),
    )
    .select<{ seq: number; object: string; detail: string }[]>('seq', 'object', 'detail');
  return new Map(
    rows.map(({ seq, object, detail }) => [object.slice('drill '.length), { seq, sum: (JSON.parse(detail) as { sum: string }).sum }]),
  );
}
