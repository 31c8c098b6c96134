import { escapePath, parentPath, pointsToLearn, type UnusualSign } from '@lithodex/core';
import type { ChangedPoint, ChangedWorkload, PointChange } from '@lithodex/contract';
import { findDamage, type DamagedItem } from '../../acts/recover/find-damage';
import type { Deps } from '../../acts/deps';
import { appendAudit } from '../../base/audit/trail';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { summarizePoints } from '../../records/catalog/point-summary';
import { pointFor } from '../../records/recover/point-access';
import { exposedAt } from '../../records/trust/sensitive-files';

type ChangeHandlers = Pick<Handlers, 'listChanges' | 'pointChange' | 'sayOfPoint' | 'setHoldFrom'>;

const day = 86_400_000;
/** Rows of workloads that are shown beside those that were held. */
const mostRows = 12;
/** Held ones go before all others. */
const heldFirst = 1000;
const mostHeld = 200;
/** So many are shown even where nothing stands out. */
const fewestRows = 6;
const mostFolders = 12;
/** Below this a workload stayed in its usual. */
const standsOut = 20;

interface Row {
  readonly id: string;
  readonly workload_id: number;
  readonly moment: number;
  readonly unusual: number;
  readonly share: number;
  readonly suspect: 0 | 1;
  readonly first: 0 | 1;
  readonly reasons: unknown;
}

/** How far points are from what is usual for their workloads, and what they found damaged. */
export function changeHandlers(deps: Deps): ChangeHandlers {
  const { db, clock } = deps;
  return {
    async listChanges({ query }) {
      const to = clock.now();
      const from = to - query.days * day;
      const judged = () =>
        db('point')
          .where({ state: 'visible' })
          .whereNotIn('kind', ['synthetic', 'log'])
          .where('moment', '>=', from)
          .modify((q) => {
            if (query.workload !== undefined) void q.where({ workload_id: query.workload });
          });
      const worst = await judged()
        .groupBy('workload_id')
        .orderBy('worst', 'desc')
        .select<{ workload_id: number; worst: number }[]>('workload_id', db.raw('MAX(unusual + ? * suspect) AS worst', [heldFirst]));
      const isShown = (score: number, i: number) => score >= heldFirst || i < (score >= standsOut ? mostRows : fewestRows);
      const ids = worst
        .filter((w, i) => query.workload !== undefined || isShown(Number(w.worst), i))
        .slice(0, mostHeld)
        .map((w) => w.workload_id);
      const points = await judged()
        .whereIn('workload_id', ids)
        .orderBy('moment')
        .select<Row[]>('id', 'workload_id', 'moment', 'unusual', 'share', 'suspect', 'reasons', db.raw('builds_on IS NULL AS first'));
      const names = await db('workload')
        .whereIn('id', ids)
        .select<{ id: number; name: string; kind: ChangedWorkload['kind']; hold_from: number }[]>('id', 'name', 'hold_from', 'kind');
      const learned = await db('point')
        .whereIn('workload_id', ids)
        .whereNotNull('builds_on')
        .where({ suspect: false })
        .groupBy('workload_id')
        .select<{ workload_id: number; n: number }[]>('workload_id', db.raw('COUNT(*) AS n'));
      const rows = ids.flatMap((id): ChangedWorkload[] => {
        const workload = names.find((w) => w.id === id);
        const own = points.filter((p) => p.workload_id === id);
        if (!workload || !own.length) return [];
        const most = own.reduce((a, b) => (b.unusual >= a.unusual ? b : a));
        return [
          {
            id,
            name: workload.name,
            kind: workload.kind,
            holdFrom: workload.hold_from,
            learned: Number(learned.find((l) => l.workload_id === id)?.n ?? 0),
            reason: fromJson<string[]>(most.reasons)[0] ?? '',
            points: own.map((p): ChangedPoint => ({
              id: p.id,
              moment: p.moment,
              score: p.unusual,
              share: p.share,
              suspect: p.suspect === 1,
              first: Number(p.first) === 1,
            })),
          },
        ];
      });
      return { from, to, pointsToLearn, rows, others: worst.length - rows.length };
    },

    async pointChange({ params, query, actor }) {
      const point = await pointFor(db, params.id, actor);
      const workload = found(
        await db('workload').where({ id: point.workload_id }).first<{ id: number; name: string } | undefined>('id', 'name'),
      );
      const damage = point.suspect === 1 ? await findDamage(db, point) : undefined;
      const reasons = fromJson<string[]>(point.reasons);
      const signs =
        fromJsonOrNull<UnusualSign[]>(point.signs) ?? reasons.map((reason) => ({ code: 'limit', score: point.unusual, reason }));
      return {
        id: point.id,
        workload,
        moment: point.moment,
        score: point.unusual,
        suspect: point.suspect === 1,
        share: point.share,
        signs: [...signs],
        said: fromJsonOrNull<PointChange['said']>(point.said),
        exposed: point.suspect === 1 ? await exposedAt(db, point) : null,
        damage: damage
          ? {
              ...summed(damage.items),
              precise: damage.precise,
              good: { id: damage.good.id, moment: damage.good.moment },
              rows: damage.items.slice(query.from, query.from + query.limit).map((i) => ({
                path: escapePath(i.path),
                how: i.how,
                twin: i.twin === undefined ? null : escapePath(i.twin),
                size: i.size,
                since: i.since,
                clean: { pointId: i.point.id, moment: i.point.moment },
              })),
            }
          : null,
      };
    },

    async sayOfPoint({ params, body, actor }) {
      const point = await pointFor(db, params.id, actor);
      const suspect = body.as === 'damage';
      if ((point.suspect === 1) === suspect && fromJsonOrNull<{ as: string }>(point.said)?.as === body.as)
        throw new ApiError('NOT_NOW', undefined, 'That was said of it already.');
      await inTransaction(db, async (trx) => {
        const said = JSON.stringify({ as: body.as, by: actor.name, at: clock.now(), reason: body.reason });
        await trx('point').where({ id: point.id }).update({ suspect, said });
        await summarizePoints(trx, point.workload_id);
        const left = await trx('point')
          .where({ workload_id: point.workload_id, suspect: true, state: 'visible' })
          .first<{ id: string } | undefined>('id');
        await trx('workload')
          .where({ id: point.workload_id })
          .update({ frozen: Boolean(left) });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: suspect ? 'point.damage' : 'point.usual',
          object: `point ${point.id}`,
          detail: body.reason,
        });
      });
      await deps.events.emit('estate', { workloadId: point.workload_id });
      return {};
    },

    async setHoldFrom({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        found(await trx('workload').where({ id: params.id }).first<{ id: number } | undefined>('id'));
        await trx('workload').where({ id: params.id }).update({ hold_from: body.holdFrom });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'workload.holdFrom',
          object: `workload ${params.id}`,
          detail: body.holdFrom > 100 ? 'never' : String(body.holdFrom),
        });
      });
      await deps.events.emit('estate', { workloadId: params.id });
      return {};
    },
  };
}

type Damage = NonNullable<PointChange['damage']>;

/** Damage by folder, the worst first. */
function summed(items: readonly DamagedItem[]): Pick<Damage, 'files' | 'bytes' | 'firstAt' | 'folders' | 'otherFolders'> {
  const folders = new Map<string, { inPlace: number; twin: number; gone: number }>();
  let firstAt: number | null = null;
  for (const { path, how, since } of items) {
    const folder = parentPath(path);
    const sums = folders.get(folder) ?? { inPlace: 0, twin: 0, gone: 0 };
    sums[how]++;
    folders.set(folder, sums);
    if (since !== null && (firstAt === null || since < firstAt)) firstAt = since;
  }
  const all = [...folders].map(([folder, sums]) => ({ folder: escapePath(folder), ...sums }));
  const worst = all.sort((a, b) => b.inPlace + b.twin + b.gone - a.inPlace - a.twin - a.gone);
  return {
    files: items.length,
    bytes: items.reduce((sum, i) => sum + i.size, 0),
    firstAt,
    folders: worst.slice(0, mostFolders),
    otherFolders: Math.max(0, worst.length - mostFolders),
  };
}
