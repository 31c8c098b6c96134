import type { FoundWorkload, WorkloadFacts } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { lookForBucketsMs } from './storage-use';
import { assignAll, followTags } from './apply-inventory';
import { lockSource } from '../../records/systems/lock-source';
import { addressOfRow, fromOfRow, systemKinds, type SystemRow } from '../../records/systems/system-rows';

const askMs = 120_000;
/** So old what was found may be while nothing is due, ms. */
const readAgainMs = 15 * 60_000;

interface Known {
  readonly id: number;
  readonly name: string;
  readonly outer_id: string;
  readonly facts: unknown;
  readonly gone_at: number | null;
}

/** A cluster puts it on each namespace, with nothing but its name. */
const ownLabel = 'kubernetes.io/metadata.name';
const tagOfType = { person: 'people', group: 'shared mailboxes', site: 'sites', room: 'chat rooms' } as const;

/** What workloads can be picked by, as tags: what members are, and the groups they are in; labels of namespaces. */
function tagsOf(facts: WorkloadFacts): readonly string[] {
  if (facts.kind === 'tenant') return [tagOfType[facts.type], ...facts.groups];
  if (facts.kind !== 'application') return [];
  return Object.entries(facts.labels)
    .filter(([name]) => name !== ownLabel)
    .map(([name, value]) => (value ? `${name}=${value}` : name));
}

/** Brings the workloads of a system in line with what was found there. A system that holds one is what that is called. */
async function applyFound(trx: Knex.Transaction, now: number, row: SystemRow, found: readonly FoundWorkload[]): Promise<void> {
  const { kind } = addressOfRow(row);
  const known = await trx('workload')
    .where({ source_id: row.id })
    .forUpdate()
    .select<Known[]>('id', 'name', 'outer_id', 'facts', 'gone_at');
  const byOuter = new Map(known.map((k) => [k.outer_id, k]));
  const tags = new Map<number, readonly string[]>();
  const changed = (workloadId: number, what: 'new' | 'gone' | 'renamed', detail: string) =>
    trx('estate_change').insert({ at: now, source_id: row.id, workload_id: workloadId, what, detail });
  for (const f of found) {
    const old = byOuter.get(f.id);
    const name = kind === 'database' ? row.name : f.name;
    const facts = JSON.stringify(f.facts);
    if (!old) {
      const values = { source_id: row.id, kind, name, outer_id: f.id, facts, created_at: now };
      const [id] = (await trx('workload').insert(values)) as [number];
      await changed(id, 'new', '');
      tags.set(id, tagsOf(f.facts));
    } else {
      tags.set(old.id, tagsOf(f.facts));
      if (old.gone_at !== null) await changed(old.id, 'new', 'it is back');
      if (kind !== 'database' && old.name !== name) await changed(old.id, 'renamed', `it was ${old.name}`.slice(0, 300));
      if (old.gone_at !== null || old.name !== name || JSON.stringify(fromJson<WorkloadFacts>(old.facts)) !== facts)
        await trx('workload').where({ id: old.id }).update({ name, facts, gone_at: null });
    }
  }
  const there = new Set(found.map((f) => f.id));
  for (const { id, outer_id, gone_at } of known) {
    if (gone_at !== null || there.has(outer_id)) continue;
    await changed(id, 'gone', 'the system has it no more');
    await trx('workload').where({ id }).update({ gone_at: now });
  }
  if (kind === 'tenant' || kind === 'application') await followTags(trx, now, row.id, tags);
  await assignAll(trx, now);
}

/** Reads what is on a system and brings the estate in line with it. Throws MOVER_ABSENT and MOVER_FAILED, having noted the trouble. */
export async function readSystem(deps: Deps, row: SystemRow): Promise<void> {
  const { db, clock } = deps;
  let found: FoundWorkload[];
  try {
    found = await deps.movers.ask({ ask: 'systemFinds', from: fromOfRow(deps.secrets, row) }, askMs, row.read_by);
  } catch (error) {
    if (!(error instanceof ApiError)) throw error;
    await db('source')
      .where({ id: row.id })
      .update({ tried_at: clock.now(), trouble: error.message.slice(0, 500) });
    await deps.events.emit('estate');
    throw error;
  }
  await inTransaction(db, async (trx) => {
    await lockSource(trx, row.id);
    const now = clock.now();
    await applyFound(trx, now, row, found);
    await trx('source').where({ id: row.id }).update({ read_at: now, tried_at: now, trouble: null });
  });
  await deps.events.emit('estate');
}

/** Reads the systems that were not looked at for a while. Trouble is noted with the system, and the others are read all the same. */
export async function readStaleSystems(deps: Deps): Promise<void> {
  const rows = await deps
    .db('source')
    .whereIn('kind', [...systemKinds])
    .whereNotNull('secret')
    .select<SystemRow[]>();
  for (const row of rows) {
    // to look into buckets is paid for
    const again = addressOfRow(row).kind === 'bucket' ? lookForBucketsMs : readAgainMs;
    if (deps.clock.now() - (row.tried_at ?? 0) < again) continue;
    try {
      await readSystem(deps, row);
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      deps.log.warn({ err: error, source: row.id }, 'a system could not be read');
    }
  }
}
