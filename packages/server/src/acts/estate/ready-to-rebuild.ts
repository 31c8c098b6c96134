import type { Ready } from '@lithodex/contract';
import { obstacles } from '@lithodex/core';
import type { PointFacts, ServerPoint } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';

interface PointOfServer {
  readonly id: string;
  readonly moment: number;
  readonly facts: ServerPoint;
}

const lookBack = 200;

/** Points of a server that was read whole, the newest first. */
async function pointsOfServer(db: Knex, workloadId: number, most: number): Promise<PointOfServer[]> {
  const rows = await db('point')
    .where({ workload_id: workloadId, state: 'visible' })
    .whereNotNull('facts')
    .orderBy('moment', 'desc')
    .limit(most)
    .select<{ id: string; moment: number; facts: unknown }[]>('id', 'moment', 'facts');
  return rows.flatMap((r) => {
    const facts = fromJson<PointFacts>(r.facts);
    return facts.kind === 'server' ? [{ ...r, facts }] : [];
  });
}

const isWhole = ({ facts }: PointOfServer) => obstacles(facts.parts).length === 0;

/** What the newest point of a server holds of its system, and the newest from which it could be rebuilt. */
export async function readyToRebuild(db: Knex, workloadId: number): Promise<Ready> {
  const [newest] = await pointsOfServer(db, workloadId, 1);
  if (!newest) return { point: null, system: null, parts: [], lastWhole: null, lacksSince: null };
  const { system, parts } = newest.facts;
  const at = ({ id, moment }: PointOfServer) => ({ id, moment });
  if (isWhole(newest)) return { point: at(newest), system, parts, lastWhole: at(newest), lacksSince: null };
  const points = await pointsOfServer(db, workloadId, lookBack);
  const whole = points.findIndex(isWhole);
  const first = points[whole < 0 ? points.length - 1 : whole - 1]!;
  return { point: at(newest), system, parts, lastWhole: whole < 0 ? null : at(points[whole]!), lacksSince: first.moment };
}
