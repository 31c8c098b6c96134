import { createHash } from 'node:crypto';
import { escapePath } from '@lithodex/core';
import type { PaceWindow, PolicyRule, PriceTable, Role, Settings } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import { limitOfAll } from '../../records/movers/admission';
import { noticesIn, shownMailServer } from '../../records/notices/notice-rows';
import { toPlatform, type PlatformRow } from '../../records/systems/platform-rows';
import { addressOfRow, addressWords } from '../../records/systems/system-rows';
import { namesOfSteps } from '../recover/sequences';
import { bodyOfSequence, type SequenceRecord } from '../../records/recover/sequence-rows';
import { bodyOfStanding, type StandingRecord } from '../../records/recover/standing-rows';
import { toShare, type ShareRow } from '../../records/systems/share-rows';
import { policiesInForce } from '../../records/policies/matching';
import { shownPlace, type TargetRow } from '../../records/targets/target-rows';

/** The settings as they are, in a steady order. */
export async function settingsNow(db: Knex): Promise<Settings> {
  const workloads = new Map((await db('workload').select<{ id: number; name: string }[]>('id', 'name')).map((w) => [w.id, w.name]));
  const namesOf = (ids: readonly number[]) => ids.flatMap((id) => workloads.get(id) ?? []).sort();
  const inForce = await policiesInForce(db);
  return {
    format: 1,
    sources: await sources(db),
    targets: (await db('target').orderBy('name').select<TargetRow[]>()).map((t) => ({
      id: t.id,
      name: t.name,
      place: shownPlace(t),
      location: t.location,
      writers: t.writers,
      paces: fromJsonOrNull<PaceWindow[]>(t.paces) ?? [],
      prices: fromJsonOrNull<PriceTable>(t.prices),
    })),
    policies: inForce.map(({ body }) => {
      const follows = ({ schedule }: PolicyRule) =>
        schedule.every === 'after' ? (inForce.find((p) => p.id === schedule.policyId)?.name ?? null) : null;
      return { ...body, workloads: namesOf(body.workloads), rules: body.rules.map((r) => ({ ...r, follows: follows(r) })) };
    }),
    platforms: await platforms(db),
    mail: await shownMailServer(db),
    notices: (await noticesIn(db)).map(({ name, about, way, paused, secret }) => {
      const policyId = about.what === 'runs' ? about.policyId : null;
      const policy = policyId === null ? null : (inForce.find((p) => p.id === policyId)?.name ?? 'a policy that has ended');
      return { name, about, policy, way, paused, signed: secret !== null };
    }),
    installations: await db('installation').orderBy('name').select<Settings['installations']>('name', 'url', 'authority'),
    shares: (await db('share').orderBy('name').select<ShareRow[]>()).map(toShare).map(({ id: _, ...share }) => share),
    standing: (await db('standing_restore').where({ ended: false }).orderBy('name').select<StandingRecord[]>()).map((row) => {
      const { name, schedule, start, reason, workloads: ids, destination } = bodyOfStanding(row);
      const folder = destination.to === 'folder' ? destination.folder : null;
      return { name, schedule, start, reason, workloads: namesOf(ids), folder, person: row.person };
    }),
    sequences: await keptSequences(db),
    holds: await db('point')
      .where({ state: 'visible', held: true })
      .orderBy('id')
      .select<Settings['holds']>('id as pointId', 'held_why as why'),
    people: await people(db, namesOf),
    tasksAtOnce: await limitOfAll(db),
  };
}

async function keptSequences(db: Knex): Promise<Settings['sequences']> {
  const rows = await db('restore_sequence').where({ removed: false }).orderBy('name').select<SequenceRecord[]>();
  return Promise.all(
    rows.map(async (row) => {
      const { name, objective, steps } = bodyOfSequence(row);
      const names = await namesOfSteps(db, steps);
      const kept = steps.map(({ restore, after, wait }, i) => ({ by: restore.by, of: names[i] ?? 'what is gone', after, wait }));
      return { name, objective, steps: kept, person: row.person };
    }),
  );
}

/** Says whether settings changed: 64 hex digits. */
export const sumOf = (settings: Settings): string => createHash('sha256').update(JSON.stringify(settings)).digest('hex');

async function sources(db: Knex): Promise<Settings['sources']> {
  interface Row {
    readonly workload_id: number;
    readonly name: string;
    readonly folder: Buffer;
    readonly location: string;
    readonly read_as: string | null;
    readonly read_by: string | null;
    readonly cross_fs: 0 | 1;
    readonly whole_server: 0 | 1;
    readonly readers: number | null;
  }
  const rows = await db('source as s')
    .join('workload as w', 'w.source_id', 's.id')
    .where('s.kind', 'files')
    .orderBy('s.name')
    .select<Row[]>('w.id as workload_id', 's.*');
  const tags = await db('tag').orderBy('name').select<{ workload_id: number; name: string }[]>('workload_id', 'name');
  return rows.map((s) => ({
    name: s.name,
    folder: escapePath(s.folder.toString('latin1')),
    location: s.location,
    readAs: s.read_as,
    readBy: s.read_by,
    crossFileSystems: s.cross_fs === 1,
    wholeServer: s.whole_server === 1,
    readers: s.readers,
    tags: tags.filter((t) => t.workload_id === s.workload_id).map((t) => t.name),
  }));
}

/** Systems that have to be connected again: what opens them is kept nowhere but here. */
async function platforms(db: Knex): Promise<Settings['platforms']> {
  const rows = await db('source')
    .whereNot({ kind: 'files' })
    .whereNotNull('address')
    .orderBy('name')
    .select<(PlatformRow & { kind: string })[]>();
  return rows.map((row) => {
    if (row.kind !== 'platform') {
      return { name: row.name, ...addressWords(addressOfRow(row)), by: 'password' as const };
    }
    const { name, endpoint, by, account } = toPlatform(row, 0);
    return { name, endpoint, by, account };
  });
}

async function people(db: Knex, namesOf: (ids: readonly number[]) => string[]): Promise<Settings['people']> {
  type Row = { name: string; display: string; role: Role; remit: unknown; disabled: 0 | 1 };
  const rows = await db('person').orderBy('name').select<Row[]>('name', 'display', 'role', 'remit', 'disabled');
  return rows.map(({ remit, disabled, ...p }) => {
    const ids = fromJsonOrNull<number[]>(remit);
    return { ...p, remit: ids && namesOf(ids), disabled: disabled === 1 };
  });
}
