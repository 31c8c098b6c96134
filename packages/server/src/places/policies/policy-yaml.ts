import { PolicyBody, PolicyRule, rulesOf } from '@lithodex/contract';
import type { Knex } from 'knex';
import { parse, stringify } from 'yaml';
import { ApiError } from '../../base/errors';
import { policiesInForce } from '../../records/policies/matching';

const format = 'lithodex policy 2';
/** So many aliases may stand in a text: more would only serve to make it grow. */
const mostAliases = 20;

interface NamedWorkload {
  readonly source: string;
  readonly name: string;
}
type Fields = Record<string, unknown>;

const asFields = (value: unknown): Fields =>
  typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Fields) : {};
const asList = (value: unknown): unknown[] => (Array.isArray(value) ? value : []);

/** A policy as YAML. What it names has names there, as numbers mean nothing elsewhere. */
export async function policyYaml(db: Knex, body: PolicyBody): Promise<string> {
  const targets = new Map((await db('target').select<{ id: string; name: string }[]>('id', 'name')).map((t) => [t.id, t.name]));
  const workloads = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .whereIn('w.id', body.workloads)
    .orderBy(['s.name', 'w.name'])
    .select<NamedWorkload[]>('s.name as source', 'w.name');
  const inForce = await policiesInForce(db);
  const { rules, ...rest } = body;
  return stringify({
    format,
    ...rest,
    workloads: workloads.map(({ source, name }) => ({ source, name })),
    rules: rules.map(({ schedule, targetId, copies, ...rule }) => ({
      ...rule,
      schedule:
        schedule.every === 'after' ? { every: 'after', policy: inForce.find((p) => p.id === schedule.policyId)?.name ?? '' } : schedule,
      target: targets.get(targetId) ?? '',
      copies: copies.map(({ targetId: to, ...c }) => ({ target: targets.get(to) ?? '', ...c })),
    })),
  });
}

/** Nothing may be said that would not be heard. */
const StrictBody = PolicyBody.extend({ rules: rulesOf(PolicyRule.strict()) }).strict();

/** The policy that a YAML text says. Throws INVALID with everything that can't be read or is not known here. */
export async function policyOfYaml(db: Knex, text: string): Promise<PolicyBody> {
  const said = read(text);
  const problems: string[] = [];
  const targets = new Map(
    (await db('target').whereNull('retired_to').whereNull('follows_every').select<{ id: string; name: string }[]>('id', 'name')).map(
      (t) => [t.name, t.id],
    ),
  );
  const targetOf = (name: unknown) => {
    const id = typeof name === 'string' ? targets.get(name) : undefined;
    if (id === undefined) problems.push(`There is no target ${JSON.stringify(name ?? '')} here.`);
    return id ?? '';
  };
  const { format: _format, workloads, rules, ...rest } = said;
  const inForce = await policiesInForce(db);
  const follow = (name: unknown) => {
    const first = inForce.find((p) => p.name === name);
    if (!first) problems.push(`There is no policy ${JSON.stringify(name ?? '')} in force here that it could follow.`);
    return { every: 'after', policyId: first?.id ?? 0 };
  };
  const body = {
    ...rest,
    workloads: await workloadsOf(db, asList(workloads), problems),
    rules: asList(rules).map((rule, i) => {
      const { target, copies, schedule, ...own } = asFields(rule);
      const named = asFields(schedule);
      return {
        no: i + 1,
        ...own,
        schedule: named['every'] === 'after' ? follow(named['policy']) : schedule,
        targetId: targetOf(target),
        copies: asList(copies).map((copy) => {
          const { target: to, ...c } = asFields(copy);
          return { ...c, targetId: targetOf(to) };
        }),
      };
    }),
  };
  const parsed = StrictBody.safeParse(body);
  if (!parsed.success && !problems.length)
    problems.push(...parsed.error.issues.slice(0, 20).map((i) => `${i.path.join('.') || 'policy'}: ${i.message}.`));
  if (!parsed.success || problems.length) throw new ApiError('INVALID', problems, `${problems.join(' ')} Nothing was changed.`);
  return parsed.data;
}

function read(text: string): Fields {
  let value: unknown;
  try {
    value = parse(text, { maxAliasCount: mostAliases, schema: 'core', prettyErrors: true });
  } catch (error) {
    throw new ApiError(
      'INVALID',
      undefined,
      `This is no YAML: ${error instanceof Error ? error.message.split('\n')[0] : ''} Nothing was changed.`,
    );
  }
  const fields = asFields(value);
  if (fields['format'] !== format)
    throw new ApiError('INVALID', undefined, `A policy says “format: ${format}” first. Nothing was changed.`);
  return fields;
}

async function workloadsOf(db: Knex, said: readonly unknown[], problems: string[]): Promise<number[]> {
  if (!said.length) return [];
  const rows = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .whereNull('w.gone_at')
    .select<(NamedWorkload & { id: number })[]>('w.id', 'w.name', 's.name as source');
  return said.flatMap((entry) => {
    const { source, name } = asFields(entry);
    const fitting = rows.filter((w) => w.name === name && w.source === source);
    if (fitting.length !== 1)
      problems.push(`There is no single workload ${JSON.stringify(name ?? '')} of ${JSON.stringify(source ?? '')} here.`);
    return fitting[0]?.id ?? [];
  });
}
