import type { Policy, Target, WorkloadRow } from '@lithodex/contract';
import { CliError } from './errors';
import type { Server } from './server';

const isId = (text: string) => /^\d+$/.test(text);

/** The only one that is meant. Throws NOT_FOUND, AMBIGUOUS. */
function theOne<T>(found: readonly T[], what: string, wanted: string, nameOf: (t: T) => string): T {
  const [one, ...more] = found;
  if (one === undefined) throw new CliError('NOT_FOUND', `There is no ${what} "${wanted}".`);
  if (more.length)
    throw new CliError('AMBIGUOUS', `"${wanted}" may be ${found.slice(0, 10).map(nameOf).join(', ')}. Say which, or give its number.`);
  return one;
}

/** A workload by its number or name; names are told apart as source/name where several have one. */
export async function workloadNamed(server: Server, wanted: string): Promise<WorkloadRow> {
  if (isId(wanted)) return server.call('workload', { id: wanted });
  const name = wanted.slice(wanted.indexOf('/') + 1);
  const { workloads } = await server.call('estate', { query: { q: name, limit: 500 } });
  const full = (w: WorkloadRow) => `${w.source.name}/${w.name}`;
  const exact = workloads.filter((w) => w.name === wanted || full(w) === wanted);
  const [all, begun] = [exact, workloads.filter((w) => w.name.startsWith(wanted))];
  return theOne(all.length ? all : begun, 'workload', wanted, (w) => `${full(w)} (${w.id})`);
}

/** A policy by its number or name. */
export async function policyNamed(server: Server, wanted: string): Promise<Policy> {
  if (isId(wanted)) return server.call('getPolicy', { id: wanted });
  const { rows } = await server.call('listPolicies', { query: { limit: 500 } });
  const exact = rows.filter((p) => p.body.name === wanted);
  return theOne(
    exact.length ? exact : rows.filter((p) => p.body.name.startsWith(wanted)),
    'policy',
    wanted,
    (p) => `${p.body.name} (${p.id})`,
  );
}

/** A target by its id or name. */
export async function targetNamed(server: Server, wanted: string): Promise<Target> {
  const { rows } = await server.call('listTargets');
  return theOne(
    rows.filter((t) => t.name === wanted || t.id === wanted),
    'target',
    wanted,
    (t) => t.name,
  );
}
