import type { FoundMachine, MachineFacts, ReadAnew } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { madeFrom, noteMade } from '../../records/systems/made-machines';
import { assign, matchesOf, policiesInForce, versioned } from '../../records/policies/matching';

interface Known {
  readonly id: number;
  readonly name: string;
  readonly outer_id: string;
  readonly facts: unknown;
  readonly gone_at: number | null;
}

type What = 'new' | 'gone' | 'moved' | 'renamed';
interface Change {
  readonly workload_id: number;
  readonly what: What;
  readonly detail: string;
}

const atOnce = 500;

/** What of a machine's place is another now, in words; '' when nothing is. */
function moveText(before: MachineFacts, now: MachineFacts): string {
  const storages = (m: MachineFacts) => [...new Set(m.disks.map((d) => d.storage || 'the store'))].sort().join(', ');
  const parts: string[] = [];
  const compare = (what: string, a: string, b: string) => {
    if (a !== b) parts.push(`${what} ${a} to ${b}`);
  };
  compare('host', before.host, now.host);
  compare('folder', before.folder, now.folder);
  compare('storage', storages(before), storages(now));
  return parts.length ? `from ${parts.join(', from ')}`.slice(0, 300) : '';
}

function factsOf({ id, name, tags, ...facts }: FoundMachine): MachineFacts {
  return facts;
}

/** Workloads by what the platform calls their machines. Where one is gone and another was made from its points, that one takes its place: its policies and its series go on. */
async function withHeirs(
  trx: Knex.Transaction,
  sourceId: number,
  known: readonly Known[],
  there: readonly string[],
): Promise<Map<string, Known>> {
  const byOuter = new Map(known.map((k) => [k.outer_id, k]));
  const byId = new Map(known.map((k) => [k.id, k]));
  const present = new Set(there);
  const taken = new Set<number>();
  const strangers = there.filter((id) => !byOuter.has(id));
  for (const [outerId, workloadId] of await madeFrom(trx, sourceId, strangers)) {
    const old = byId.get(workloadId);
    if (!old || present.has(old.outer_id) || taken.has(old.id)) continue;
    taken.add(old.id);
    byOuter.delete(old.outer_id);
    byOuter.set(outerId, old);
  }
  return byOuter;
}

/** Brings the workloads of a platform in line with what it holds: new ones appear, those that are gone are marked, moves are told, tags of the platform follow. */
export async function applyInventory(
  trx: Knex.Transaction,
  now: number,
  sourceId: number,
  machines: readonly FoundMachine[],
): Promise<ReadAnew> {
  const known = await trx('workload')
    .where({ source_id: sourceId })
    .forUpdate()
    .select<Known[]>('id', 'name', 'outer_id', 'facts', 'gone_at');
  const byOuter = await withHeirs(
    trx,
    sourceId,
    known,
    machines.map((m) => m.id),
  );
  const changes: Change[] = [];
  const ids = new Map<string, number>();
  for (const machine of machines) {
    const old = byOuter.get(machine.id);
    if (!old) continue;
    ids.set(machine.id, old.id);
    const facts = factsOf(machine);
    const before = fromJson<MachineFacts>(old.facts);
    if (old.outer_id !== machine.id) {
      changes.push({ workload_id: old.id, what: 'new', detail: 'another machine has taken its place' });
      // should the one before come back when this one is gone, it has its place again
      await noteMade(trx, now, { sourceId, outerId: old.outer_id, workloadId: old.id });
    }
    if (old.outer_id === machine.id && old.gone_at !== null) changes.push({ workload_id: old.id, what: 'new', detail: 'it is back' });
    if (old.name !== machine.name) changes.push({ workload_id: old.id, what: 'renamed', detail: `it was ${old.name}`.slice(0, 300) });
    const moved = moveText(before, facts);
    if (moved) changes.push({ workload_id: old.id, what: 'moved', detail: moved });
    if (
      old.outer_id !== machine.id ||
      old.gone_at !== null ||
      old.name !== machine.name ||
      JSON.stringify(before) !== JSON.stringify(facts)
    )
      await trx('workload')
        .where({ id: old.id })
        .update({ name: machine.name, outer_id: machine.id, facts: JSON.stringify(facts), gone_at: null });
  }
  const fresh = machines.filter((m) => !byOuter.has(m.id));
  for (let at = 0; at < fresh.length; at += atOnce)
    await trx('workload').insert(
      fresh.slice(at, at + atOnce).map((m) => ({
        source_id: sourceId,
        kind: 'machine',
        name: m.name,
        outer_id: m.id,
        facts: JSON.stringify(factsOf(m)),
        created_at: now,
      })),
    );
  const freshOuter = fresh.map((m) => m.id);
  const madeOf = await madeFrom(trx, sourceId, freshOuter);
  for (let at = 0; at < freshOuter.length; at += atOnce)
    for (const row of await trx('workload')
      .where({ source_id: sourceId })
      .whereIn('outer_id', freshOuter.slice(at, at + atOnce))
      .select<{ id: number; outer_id: string }[]>('id', 'outer_id')) {
      ids.set(row.outer_id, row.id);
      changes.push({
        workload_id: row.id,
        what: 'new',
        detail: madeOf.has(row.outer_id) ? 'made from a point of a machine that is still there' : '',
      });
    }
  const still = new Set(ids.values());
  const gone = known.filter((k) => k.gone_at === null && !still.has(k.id));
  for (const { id } of gone) changes.push({ workload_id: id, what: 'gone', detail: 'the platform has it no more' });
  for (let at = 0; at < gone.length; at += atOnce)
    await trx('workload')
      .whereIn(
        'id',
        gone.slice(at, at + atOnce).map((g) => g.id),
      )
      .update({ gone_at: now });
  for (let at = 0; at < changes.length; at += atOnce)
    await trx('estate_change').insert(changes.slice(at, at + atOnce).map((c) => ({ ...c, at: now, source_id: sourceId })));
  await followTags(trx, now, sourceId, new Map(machines.map((m) => [ids.get(m.id)!, m.tags])));
  await assignAll(trx, now);
  const count = (what: What) => changes.filter((c) => c.what === what).length;
  return { machines: machines.length, fresh: count('new'), gone: count('gone'), moved: count('moved') };
}

/** Tags that the platform gives follow it; those given by people here stay. */
export async function followTags(
  trx: Knex.Transaction,
  now: number,
  sourceId: number,
  wanted: ReadonlyMap<number, readonly string[]>,
): Promise<void> {
  type Tag = { workload_id: number; name: string; given: 0 | 1 };
  const tags = await trx('tag as t')
    .join('workload as w', 'w.id', 't.workload_id')
    .where('w.source_id', sourceId)
    .select<Tag[]>('t.workload_id', 't.name', 't.given');
  const has = new Set(tags.map((t) => `${t.workload_id} ${t.name}`));
  const over = tags.filter((t) => t.given === 0 && wanted.has(t.workload_id) && !wanted.get(t.workload_id)!.includes(t.name));
  const missing = [...wanted].flatMap(([id, names]) =>
    [...new Set(names)]
      .filter((name) => !has.has(`${id} ${name}`))
      .map((name) => ({ workload_id: id, name: name.slice(0, 120), given: false })),
  );
  if (!over.length && !missing.length) return;
  await versioned(trx, now, async () => {
    for (const { workload_id, name } of over) await trx('tag').where({ workload_id, name }).delete();
    for (let at = 0; at < missing.length; at += atOnce)
      await trx('tag')
        .insert(missing.slice(at, at + atOnce))
        .onConflict()
        .ignore();
  });
}

/** Policies that pick by what workloads are get what they match now. */
export async function assignAll(trx: Knex.Transaction, now: number): Promise<void> {
  for (const policy of await policiesInForce(trx))
    if (policy.body.tags.length || policy.body.rule || policy.body.except)
      await assign(
        trx,
        now,
        policy.id,
        (await matchesOf(trx, policy.body)).map((m) => m.id),
      );
}
