import { formatList, unescapePath } from '@lithodex/core';
import type { PolicyBody, PolicyRule, Settings, SettingsRecord } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import { limitOfAll, setLimitOfAll } from '../../records/movers/admission';
import { assign, matchesOf, versioned } from '../../records/policies/matching';
import { startClocks } from '../policies/put-in-force';
import { rememberVersion } from '../../records/policies/versions';
import type { Secrets } from '../../base/secrets';
import { placeText, shownPlace, type TargetRow } from '../../records/targets/target-rows';
import { inForceAs, step, type Step } from './step';
import { installationStep, sequenceStep, shareStep, standingStep } from './take-restores';
import { mailSteps, noticeStep, platformStep, unconnected } from './take-surroundings';

/** What taking over would do, or has to leave. Steps are carried out in their order; each looks at what those before it made. */
export async function* stepsOf(
  trx: Knex.Transaction,
  secrets: Secrets,
  now: number,
  targetId: string,
  { settings, on }: SettingsRecord,
): AsyncGenerator<Step> {
  const targets = await sameTargets(trx, settings, targetId, on);
  for (const source of settings.sources) yield await sourceStep(trx, now, source);
  const missing = await unconnected(trx, settings);
  for (const platform of settings.platforms) yield platformStep(platform, missing);
  for (const target of settings.targets) yield targetStep(trx, target, targets.get(target.id));
  yield* limitSteps(trx, settings);
  const ready = new Set<string>();
  for (const policy of followersLast(settings.policies)) {
    const step = await policyStep(trx, now, policy, { settings, targets, missing, ready });
    if (step.effect !== 'leave') ready.add(policy.name);
    yield step;
  }
  yield* mailSteps(trx, secrets, settings);
  for (const notice of settings.notices) yield await noticeStep(trx, now, notice, ready);
  for (const share of settings.shares) yield await shareStep(trx, share);
  for (const installation of settings.installations) yield await installationStep(trx, installation);
  const repeated = new Set<string>();
  for (const standing of settings.standing) {
    const step = await standingStep(trx, now, standing);
    if (step.effect !== 'leave') repeated.add(standing.name);
    yield step;
  }
  for (const sequence of settings.sequences) yield await sequenceStep(trx, now, sequence, repeated);
  for (const hold of settings.holds) yield await holdStep(trx, hold);
  for (const person of settings.people) yield await personStep(trx, person);
}

/** Which targets here are those of the settings: the one they stand on, others by their place or else by their name. */
async function sameTargets(trx: Knex.Transaction, settings: Settings, targetId: string, on: string): Promise<Map<string, TargetRow>> {
  const here = await trx('target').select<TargetRow[]>();
  const found = new Map<string, TargetRow>();
  for (const t of settings.targets) {
    const same =
      here.find((h) => t.id === on && h.id === targetId) ??
      here.find((h) => placeText(shownPlace(h)) === placeText(t.place)) ??
      here.find((h) => h.name === t.name);
    if (same?.retired_to === null && same.follows_every === null) found.set(t.id, same);
  }
  return found;
}

async function sourceStep(trx: Knex.Transaction, now: number, s: Settings['sources'][number]): Promise<Step> {
  const folder = Buffer.from(unescapePath(s.folder), 'latin1');
  const columns = {
    location: s.location,
    read_as: s.readAs,
    read_by: s.readBy,
    cross_fs: s.crossFileSystems,
    whole_server: s.wholeServer,
    readers: s.readers,
  };
  interface Row {
    readonly id: number;
    readonly folder: Buffer;
    readonly workload_id: number;
    readonly location: string;
    readonly read_as: string | null;
    readonly read_by: string | null;
    readonly cross_fs: 0 | 1;
    readonly whole_server: 0 | 1;
    readonly readers: number | null;
  }
  const known = await trx('source as s')
    .join('workload as w', 'w.source_id', 's.id')
    .where('s.name', s.name)
    .first<Row | undefined>('s.*', 'w.id as workload_id');
  if (known && !known.folder.equals(folder)) return step('source', s.name, 'leave', 'a source of this name has another folder here');
  const tag = (workloadId: number) =>
    versioned(trx, now, async () => {
      for (const name of s.tags) await trx('tag').insert({ workload_id: workloadId, name }).onConflict().ignore();
    });
  const tags = known
    ? (await trx('tag').where({ workload_id: known.workload_id }).select<{ name: string }[]>('name')).map((t) => t.name)
    : [];
  const same =
    known?.location === s.location &&
    known.read_as === s.readAs &&
    known.read_by === s.readBy &&
    known.readers === s.readers &&
    (known.cross_fs === 1) === s.crossFileSystems &&
    (known.whole_server === 1) === s.wholeServer;
  if (same && s.tags.every((t) => tags.includes(t))) return step('source', s.name, 'same', '');
  if (known)
    return step('source', s.name, 'change', 'gets its place, rights and tags', async () => {
      await trx('source').where({ id: known.id }).update(columns);
      await tag(known.workload_id);
    });
  return step('source', s.name, 'add', s.folder, async () => {
    const [id] = (await trx('source').insert({ name: s.name, folder, created_at: now, ...columns })) as [number];
    const [workloadId] = (await trx('workload').insert({ source_id: id, name: s.name, created_at: now })) as [number];
    await tag(workloadId);
  });
}

function targetStep(trx: Knex.Transaction, t: Settings['targets'][number], here: TargetRow | undefined): Step {
  if (!here) return step('target', t.name, 'leave', `take it over first: ${placeText(t.place)}`);
  const json = { paces: JSON.stringify(t.paces), prices: t.prices && JSON.stringify(t.prices) };
  const now = {
    paces: JSON.stringify(fromJsonOrNull(here.paces) ?? []),
    prices: here.prices && JSON.stringify(fromJsonOrNull(here.prices)),
  };
  const { location, writers } = t;
  if (json.paces === now.paces && json.prices === now.prices && location === here.location && writers === here.writers)
    return step('target', t.name, 'same', here.name === t.name ? '' : `is ${here.name} here`);
  const named = here.name === t.name ? '' : `is ${here.name} here; `;
  return step('target', t.name, 'change', `${named}gets its place, prices and limits`, async () => {
    await trx('target')
      .where({ id: here.id })
      .update({ location, writers, ...json });
  });
}

async function* limitSteps(trx: Knex.Transaction, { tasksAtOnce }: Settings): AsyncGenerator<Step> {
  if (tasksAtOnce === null || tasksAtOnce === (await limitOfAll(trx))) return;
  yield step('limit', 'tasks at once in all', 'change', String(tasksAtOnce), () => setLimitOfAll(trx, tasksAtOnce));
}

/** Names of the policies that one follows. */
const followedBy = (policy: Settings['policies'][number]) => policy.rules.flatMap((r) => r.follows ?? []);

/** Policies in such an order that what is followed comes before what follows it. */
function followersLast(policies: Settings['policies']): Settings['policies'] {
  const ordered: Settings['policies'] = [];
  let rest = policies;
  while (rest.length) {
    const free = rest.filter((p) => !followedBy(p).some((name) => rest.some((r) => r.name === name)));
    if (!free.length) return [...ordered, ...rest];
    ordered.push(...free);
    rest = rest.filter((p) => !free.includes(p));
  }
  return ordered;
}

/** What there is for a policy to stand on. */
interface Ground {
  readonly settings: Settings;
  readonly targets: ReadonlyMap<string, TargetRow>;
  /** Platforms that have to be connected anew. */
  readonly missing: readonly string[];
  /** Names of policies that are in force by then. */
  readonly ready: ReadonlySet<string>;
}

async function policyStep(
  trx: Knex.Transaction,
  now: number,
  policy: Settings['policies'][number],
  { settings, targets, missing, ready }: Ground,
): Promise<Step> {
  const { name } = policy;
  if (await inForceAs(trx, name)) return step('policy', name, 'same', 'a policy of this name is in force');
  const needed = [...new Set(policy.rules.flatMap((r) => [r.targetId, ...r.copies.map((c) => c.targetId)]))];
  const lacks = needed.filter((id) => !targets.has(id)).map((id) => settings.targets.find((t) => t.id === id)?.name ?? id);
  if (lacks.length) return step('policy', name, 'leave', `needs ${formatList(lacks)}, not taken over yet`);
  const known = await trx('workload').whereIn('name', policy.workloads).select<{ id: number; name: string }[]>('id', 'name');
  const gone = policy.workloads.filter((w) => !settings.sources.some((s) => s.name === w) && !known.some((k) => k.name === w));
  const alone: string[] = [];
  for (const first of new Set(followedBy(policy))) if (!ready.has(first) && !(await inForceAs(trx, first))) alone.push(first);
  const later = alone.filter((first) => settings.policies.some((p) => p.name === first));
  if (later.length) return step('policy', name, 'leave', `follows ${formatList(later)}, not taken over yet`);
  const byHand = alone.length ? `, by hand, as ${formatList(alone)} is not in force` : '';
  // machines may be known once their platform is
  const unknown = missing.length ? `not known here unless ${formatList(missing)} is connected first` : 'which the settings do not know';
  const why = gone.length ? `without ${gone.join(', ')}, ${unknown}${byHand}` : `is in force from now on${byHand}`;
  return step('policy', name, 'add', why, async () => {
    const workloads = await trx('workload').whereIn('name', policy.workloads).select<{ id: number }[]>('id');
    const rules: PolicyRule[] = [];
    for (const { follows, ...rule } of policy.rules) {
      const first = follows === null ? undefined : await inForceAs(trx, follows);
      rules.push({
        ...rule,
        schedule: rule.schedule.every !== 'after' ? rule.schedule : first ? { every: 'after', policyId: first.id } : { every: 'hand' },
        targetId: targets.get(rule.targetId)!.id,
        copies: rule.copies.map((c) => ({ ...c, targetId: targets.get(c.targetId)!.id })),
      });
    }
    const body: PolicyBody = { ...policy, workloads: workloads.map((w) => w.id), rules };
    let id = 0;
    await versioned(trx, now, async () => {
      [id] = (await trx('policy').insert({ name, body: JSON.stringify(body) })) as [number];
    });
    await startClocks(trx, id, body, now);
    await rememberVersion(trx, id, now, 'settings taken over', body);
    await assign(
      trx,
      now,
      id,
      (await matchesOf(trx, body)).map((m) => m.id),
    );
  });
}

async function holdStep(trx: Knex.Transaction, { pointId, why }: Settings['holds'][number]): Promise<Step> {
  const point = await trx('point').where({ id: pointId, state: 'visible' }).first<{ held: 0 | 1 } | undefined>('held');
  if (!point) return step('hold', pointId, 'leave', 'the point is not known here');
  if (point.held) return step('hold', pointId, 'same', 'is kept by hand already');
  return step('hold', pointId, 'change', `is kept by hand: ${why}`, async () => {
    await trx('point').where({ id: pointId }).update({ held: true, held_why: why });
  });
}

async function personStep(trx: Knex.Transaction, p: Settings['people'][number]): Promise<Step> {
  const known = await trx('person').where({ name: p.name }).first<{ id: number } | undefined>('id');
  if (known) return step('person', p.name, 'same', 'is known here');
  return step('person', p.name, 'leave', `${p.display}, ${p.role}${p.disabled ? ', barred' : ''}: to be added with a new password`);
}
