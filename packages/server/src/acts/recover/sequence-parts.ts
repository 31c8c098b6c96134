import type { SequencePart, SequenceStep, StandingBody, StepLook } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { ApiError } from '../../base/errors';
import { bodyOfStanding, type StandingRecord } from '../../records/recover/standing-rows';
import { measuredRate } from '../../records/runs/measured-rates';
import { lastDrills } from '../../records/trust/drill-rows';
import type { Deps } from '../deps';
import { cannotDrill, drillable } from '../trust/drills';
import { planRestore } from './restore-plan';
import { homeRestore, namesOfSteps } from './sequences';
import { newestWanted } from './newest-wanted';
import { actorFor, lookAtStanding } from './standing';

/** Where a repeated restore brings what it brings, in words. */
export async function placeOfStanding(db: Knex, { destination: d }: StandingBody): Promise<string> {
  if (d.to === 'folder') return `${d.folder}, on the mover`;
  const id = d.to === 'server' ? d.systemId : d.platformId;
  const source = await db('source').where({ id }).first<{ name: string } | undefined>('name');
  const where = source?.name ?? 'what is not connected any more';
  if (d.to === 'cloud') return `${where}, in ${d.region}, ${d.ahead ? 'the disks sent ahead' : `on ${d.network}, named …${d.suffix}`}`;
  return d.to === 'platform'
    ? `${where}, on ${d.host}, ${d.networks.length ? `on ${d.networks.join(', ')}` : 'on no network'}, named …${d.suffix}`
    : `${where}, as ${d.databases.map((b) => b.to).join(', ')}`;
}

interface Expected {
  readonly name: string;
  readonly kind: KindName;
  readonly source: string;
  readonly takesMs: number | null;
  readonly tried: number | null;
  readonly cannot: string;
}

/** What can be a step of a sequence, with how long it takes: as it was drilled last, else by what restores were measured at. */
export async function sequenceParts(db: Knex): Promise<SequencePart[]> {
  const [workloads, drills, { rate }] = [await drillable(db), await lastDrills(db), await measuredRate(db)];
  const sources = new Map((await db('source').select<{ id: number; name: string }[]>('id', 'name')).map((s) => [s.id, s.name]));
  const expected = new Map(
    workloads.map((w): [number, Expected] => {
      const last = drills.get(w.id);
      const byRate = rate ? Math.round((w.bytes / rate) * 1000) : null;
      const takesMs = last?.passed === 1 && last.usable_ms !== null ? last.usable_ms : byRate;
      const { name, kind } = w;
      return [w.id, { name, kind, source: sources.get(w.source_id) ?? '', takesMs, tried: last?.at ?? null, cannot: cannotDrill(w) }];
    }),
  );
  const rows = await db('standing_restore').where({ ended: false }).orderBy('name').select<StandingRecord[]>();
  const standing = await Promise.all(
    rows.map(async (row): Promise<SequencePart> => {
      const body = bodyOfStanding(row);
      const known = body.workloads.flatMap((id) => expected.get(id) ?? []);
      const isWhole = known.length === new Set(body.workloads).size && known.every((k) => k.takesMs !== null);
      return {
        restore: { by: 'standing', id: row.no },
        name: row.name,
        kinds: [...new Set(known.map((k) => k.kind))],
        place: await placeOfStanding(db, body),
        takesMs: isWhole ? Math.max(0, ...known.map((k) => k.takesMs ?? 0)) : null,
        tried: known.every((k) => k.tried !== null) && known.length ? Math.min(...known.map((k) => k.tried ?? 0)) : null,
        cannot: known.find((k) => k.cannot !== '')?.cannot ?? '',
      };
    }),
  );
  const own = [...expected].map(([id, { name, kind, source, takesMs, tried, cannot }]): SequencePart => ({
    restore: { by: 'workload', id },
    name,
    kinds: [kind],
    place: source === name ? 'where it was' : `where it was, in ${source}`,
    takesMs,
    tried,
    cannot,
  }));
  return [...own, ...standing];
}

/** What each step would do now, and what speaks against it: nothing is changed. */
export async function lookAtSteps(deps: Deps, steps: readonly SequenceStep[], person: string): Promise<StepLook[]> {
  const names = await namesOfSteps(deps.db, steps);
  const looks: StepLook[] = [];
  for (const [i, step] of steps.entries()) {
    const name = names[i];
    if (name === undefined) {
      looks.push({
        name: 'what is gone',
        moments: [],
        place: '',
        says: [{ level: 'stop', text: 'It is not there any more: take the step out.' }],
      });
      continue;
    }
    try {
      looks.push({ name, ...(await lookAtStep(deps, step, name, person)) });
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      looks.push({ name, moments: [], place: '', says: [{ level: 'stop', text: error.message }] });
    }
  }
  return looks;
}

type Told = Omit<StepLook, 'name'>;
const told = (checks: readonly { readonly level: string; readonly text: string }[]): Told['says'] =>
  checks.flatMap(({ level, text }) => (level === 'look' || level === 'stop' ? [{ level, text }] : []));

async function lookAtStep(deps: Deps, { restore }: SequenceStep, name: string, person: string): Promise<Told> {
  if (restore.by === 'standing') {
    const row = await deps.db('standing_restore').where({ no: restore.id }).first<StandingRecord>();
    const { moments, checks } = await lookAtStanding(deps, row);
    return { moments, place: await placeOfStanding(deps.db, bodyOfStanding(row)), says: told(checks) };
  }
  const wanted = await newestWanted(deps, restore.id);
  const { plan } = await planRestore(deps, homeRestore(name, wanted, 'to be looked at only'), actorFor('sequence', person));
  // that no point is taken first is said once for all steps
  const checks = plan.checks.filter((c) => c.code !== 'NO_RESCUE');
  const doubts = wanted.doubts.map((text) => ({ level: 'look' as const, text }));
  return { moments: [wanted.moment], place: plan.items[0]?.goesTo ?? '', says: [...doubts, ...told(checks)] };
}
