import { PolicyBody, withRules, type MachineFacts, type PolicyRule } from '@lithodex/contract';
import { escapePath, parseRule, RuleError, ruleMatcher, type SelectionFacts } from '@lithodex/core';
import type { KindName } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import { timetablesOf, type PolicyTimetable } from './timetable';

export interface Match {
  readonly id: number;
  readonly name: string;
  readonly why: string;
}

export interface PolicyRow {
  readonly id: number;
  readonly name: string;
  readonly body: PolicyBody;
  /** When each of its rules runs, as far as that is known ahead. */
  readonly timetables: readonly PolicyTimetable[];
}

/** A policy as it is stored, with the starting values of what it was written without. */
export function bodyOf(stored: unknown): PolicyBody {
  return PolicyBody.parse(withRules(fromJson(stored)));
}

/** The rule of a policy with a number; the first one that writes to the target, or the first of all, where it says that rule no more. */
export function ruleOf({ rules }: PolicyBody, no: number, targetId?: string): PolicyRule {
  return rules.find((r) => r.no === no) ?? rules.find((r) => r.targetId === targetId) ?? rules[0]!;
}

type Selection = Pick<PolicyBody, 'workloads' | 'tags' | 'rule' | 'except'>;

/** A matcher for the text of a rule; undefined for ''. Throws INVALID. */
function matcherOf(text: string, at: 'rule' | 'except') {
  if (!text) return undefined;
  try {
    return ruleMatcher(parseRule(text));
  } catch (error) {
    if (!(error instanceof RuleError)) throw error;
    throw new ApiError('INVALID', [{ at: `body.${at}`, character: error.at }], `${error.message} Nothing was changed.`);
  }
}

export interface Candidate {
  readonly id: number;
  readonly name: string;
  readonly facts: SelectionFacts;
}

/** What a rule can ask of a workload. `folder`: escaped text. */
export function selectionFacts(
  name: string,
  kind: KindName,
  source: { readonly name: string; readonly location: string; readonly folder: string },
  machine: MachineFacts | null,
  tags: readonly string[],
): SelectionFacts {
  const plain = { tag: tags, name: [name], source: [source.name] };
  if (!machine)
    return {
      ...plain,
      kind: [kind],
      location: [source.location],
      folder: [source.folder],
      cluster: [],
      host: [],
      storage: [],
      network: [],
    };
  const { location, folder, cluster, host, networks, disks, template } = machine;
  return {
    ...plain,
    kind: [template ? 'template' : 'machine'],
    location: [location],
    folder: [folder],
    cluster: [cluster],
    host: [host],
    storage: disks.map((d) => d.storage),
    network: networks,
  };
}

interface CandidateRow {
  readonly id: number;
  readonly name: string;
  readonly kind: KindName;
  readonly facts: unknown;
  readonly source: string;
  readonly location: string;
  readonly folder: Buffer;
}

/** Workloads that may match: all of them only where a rule can pick any. */
async function candidates(db: Knex, { workloads, tags: wanted, rule }: Selection): Promise<Candidate[]> {
  const rows = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .whereNull('w.gone_at')
    .where((q) => {
      if (rule) return;
      const tagged = db('tag').whereIn('name', wanted).select('workload_id');
      void q.whereIn('w.id', workloads).orWhereIn('w.id', tagged);
    })
    .select<CandidateRow[]>('w.id', 'w.name', 'w.kind', 'w.facts', 's.name as source', 's.location', 's.folder');
  const tags = await tagsOf(
    db,
    rows.map((r) => r.id),
  );
  return rows.map(({ id, name, kind, facts, source, location, folder }) => {
    const place = { name: source, location, folder: escapePath(folder.toString('latin1')) };
    const machine = kind === 'machine' ? fromJsonOrNull<MachineFacts>(facts) : null;
    return { id, name, facts: selectionFacts(name, kind, place, machine, tags.get(id) ?? []) };
  });
}

const mostNamed = 1000;

/** Tags of workloads. */
async function tagsOf(db: Knex, ids: readonly number[]): Promise<Map<number, string[]>> {
  const rows = await db('tag')
    .modify((q) => {
      // a list of all of them takes longer to read than all tags
      if (ids.length <= mostNamed) void q.whereIn('workload_id', ids);
    })
    .select<{ workload_id: number; name: string }[]>('workload_id', 'name');
  const tags = new Map<number, string[]>();
  for (const { workload_id, name } of rows) {
    const known = tags.get(workload_id);
    if (known) known.push(name);
    else tags.set(workload_id, [name]);
  }
  return tags;
}

/** Workloads a selection matches right now, each with the reason. Throws INVALID for a rule that can't be read. */
export async function matchesOf(db: Knex, body: Selection): Promise<Match[]> {
  return matchAmong(await candidates(db, body), body);
}

/** Those of the candidates that a selection matches, by name. Throws INVALID for a rule that can't be read. */
export function matchAmong(all: readonly Candidate[], body: Selection): Match[] {
  const [fits, leftOut] = [matcherOf(body.rule, 'rule'), matcherOf(body.except, 'except')];
  const named = new Set(body.workloads);
  const tagged = new Set(body.tags);
  const found: Match[] = [];
  for (const w of all) {
    const tag = tagged.size ? w.facts.tag.find((t) => tagged.has(t)) : undefined;
    const why = named.has(w.id) ? 'chosen by name' : tag !== undefined ? `tagged ${tag}` : fits?.(w.facts)?.join(', ');
    if (why !== undefined && !leftOut?.(w.facts)) found.push({ id: w.id, name: w.name, why });
  }
  const order = new Intl.Collator('en');
  return found.sort((a, b) => order.compare(a.name, b.name));
}

/** Policies in force. */
export async function policiesInForce(db: Knex): Promise<PolicyRow[]> {
  const rows = await db('policy')
    .where({ ended: false })
    .orderBy('name')
    .select<{ id: number; name: string; body: unknown }[]>('id', 'name', 'body');
  const policies = rows.map(({ id, name, body }) => ({ id, name, body: bodyOf(body) }));
  return policies.map((p) => ({ ...p, timetables: timetablesOf(p.body, policies) }));
}

/**
 * Writes to system-versioned tables with the clock's time as their row time, so that "as of" follows the same clock as everything else.
 */
export async function versioned(trx: Knex.Transaction, now: number, write: () => Promise<void>): Promise<void> {
  await trx.raw('SET @@timestamp = ?', [now / 1000]);
  try {
    await write();
  } finally {
    await trx.raw('SET @@timestamp = DEFAULT');
  }
}

/** Brings the assignments of a policy in line with what it matches. */
export async function assign(trx: Knex.Transaction, now: number, policyId: number, workloads: readonly number[]): Promise<void> {
  const current = (await trx('assignment').where({ policy_id: policyId }).select<{ workload_id: number }[]>('workload_id')).map(
    (r) => r.workload_id,
  );
  const gone = current.filter((id) => !workloads.includes(id));
  const fresh = workloads.filter((id) => !current.includes(id));
  if (!gone.length && !fresh.length) return;
  await versioned(trx, now, async () => {
    if (gone.length) await trx('assignment').where({ policy_id: policyId }).whereIn('workload_id', gone).delete();
    if (fresh.length) await trx('assignment').insert(fresh.map((id) => ({ policy_id: policyId, workload_id: id })));
  });
}
