import type { Ready } from '@lithodex/contract';
import { obstacles } from '@lithodex/core';
import type { PointFacts, ServerPoint } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';

interface PointOfServer {
  readonly id: string;
  readonly moment: number;
  readonly facts: ServerPoint;
}

const lookBack = 200;
const shown = 30;

/** Points of a server that was read whole, the newest first. */
async function pointsOfServer(db: Knex, workloadId: number, most: number, id?: string): Promise<PointOfServer[]> {
  const rows = await db('point')
    .where({ workload_id: workloadId, state: 'visible', ...(id !== undefined && { id }) })
    .whereNotNull('facts')
    .orderBy('moment', 'desc')
    .limit(most)
    .select<{ id: string; moment: number; facts: unknown }[]>('id', 'moment', 'facts');
  return rows.flatMap((r) => {
    const facts = fromJson<PointFacts>(r.facts);
    return facts.kind === 'server' ? [{ ...r, facts }] : [];
  });
}

const pointOfServer = async (db: Knex, workloadId: number, id: string) => (await pointsOfServer(db, workloadId, 1, id))[0];

const isWhole = ({ facts }: PointOfServer) => obstacles(facts.parts).length === 0;

/** What a point of a server holds of its system, the newest unless another is asked for, and the newest from which it could be rebuilt. Throws POINT_GONE. */
export async function readyToRebuild(db: Knex, workloadId: number, pointId?: string): Promise<Ready> {
  const recent = await pointsOfServer(db, workloadId, shown);
  const [newest] = recent;
  if (!newest) return { point: null, system: null, parts: [], lastWhole: null, lacksSince: null, points: [] };
  const asked = pointId === undefined ? newest : await pointOfServer(db, workloadId, pointId);
  if (!asked) throw new ApiError('POINT_GONE');
  const { system, parts } = asked.facts;
  const at = ({ id, moment }: PointOfServer) => ({ id, moment });
  const known = { point: at(asked), system, parts, points: recent.map((p) => ({ ...at(p), whole: isWhole(p) })) };
  if (isWhole(newest)) return { ...known, lastWhole: at(newest), lacksSince: null };
  const points = await pointsOfServer(db, workloadId, lookBack);
  const whole = points.findIndex(isWhole);
  const first = points[whole < 0 ? points.length - 1 : whole - 1]!;
  return { ...known, lastWhole: whole < 0 ? null : at(points[whole]!), lacksSince: first.moment };
}
