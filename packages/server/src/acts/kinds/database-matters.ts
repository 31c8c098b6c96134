import { countOf, formatDuration, formatMoment } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { DatabaseFacts } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { policiesInForce } from '../../records/policies/matching';
import { bandOf, logObjectives } from '../estate/database-band';
import { connectionMatters } from './system-matters';

const minuteMs = 60_000;
const dayMs = 86_400_000;
/** So long a commit that took much away is told of. */
const notableMs = 3 * dayMs;

/** Where the connection of a system is mended. */
export const systemLink = (sourceId: number): FoundMatter['action'] => ({
  label: 'Open the connection',
  link: `/estate/systems/${sourceId}`,
  query: {},
});

/** Causes of failed runs that are mended at the connection of the database server. */
export const databaseCauses: readonly string[] = ['DATABASE_REFUSED', 'DATABASE_AWAY', 'DATABASE_RIGHT_MISSING'];

/** Workloads that a policy in force takes the log of. */
async function logged(deps: Deps): Promise<{ id: number; name: string; facts: unknown }[]> {
  const policies = (await policiesInForce(deps.db)).filter((p) => p.body.rules.some((r) => r.kind === 'log')).map((p) => p.id);
  return deps
    .db('workload as w')
    .whereIn('w.id', deps.db('assignment').whereIn('policy_id', policies).select('workload_id'))
    .where({ 'w.kind': 'database' })
    .whereNull('w.gone_at')
    .select<{ id: number; name: string; facts: unknown }[]>('w.id', 'w.name', 'w.facts');
}

/** Servers that can't be brought back to a second, though they should be; and commits that took much away. */
export async function databaseMatters(deps: Deps): Promise<FoundMatter[]> {
  const zone = deps.config.zone;
  const now = deps.clock.now();
  const found = await connectionMatters(deps, 'database', systemLink);
  const objectives = await logObjectives(deps.db);
  for (const { id, name, facts } of await logged(deps)) {
    const second = { label: 'See where one can go back to', link: `/estate/${id}/second`, query: {} };
    const { logs } = fromJson<DatabaseFacts>(facts);
    if (!logs.on)
      found.push({
        id: `log-off-${id}`,
        level: 'fault',
        title: `${name} writes no log`,
        text: 'It can be brought back to its points only, not to a second. Turn the log on (log_bin) and start the server again.',
        since: now,
        action: second,
        second: null,
      });
    const { stretches, notable } = await bandOf(deps.db, id);
    const last = stretches.at(-1);
    if (last?.from === null)
      found.push({
        id: `log-gap-${id}`,
        level: 'fault',
        title: `No second of ${name} since ${formatMoment(last.logged, zone, now)} can be brought back`,
        text: `${last.cause ? `Its log has a gap: ${last.cause}. ` : ''}A policy with a rule for fulls takes one at once; from the next log after it on any second can be reached again.`,
        since: last.logged,
        action: { label: 'See its points', link: `/estate/${id}`, query: {} },
        second,
      });
    const objective = objectives.get(id) ?? Infinity;
    if (last?.from && now - last.to > objective * minuteMs)
      found.push({
        id: `log-late-${id}`,
        level: 'fault',
        title: `The newest second of ${name} is ${formatDuration(now - last.to)} old`,
        text: `It may be ${formatDuration(objective * minuteMs)} old at most. What is lost now is lost from ${formatMoment(last.to, zone, now)} on.`,
        since: last.to + objective * minuteMs,
        action: { label: 'See its runs', link: '/runs', query: { workload: String(id) } },
        second,
      });
    for (const n of notable.filter((c) => now - c.at < notableMs).slice(-3)) {
      const gone = n.tables.filter((t) => t.change === 'deleted').reduce((sum, t) => sum + t.rows, 0);
      const what = gone ? countOf(gone, 'row') : 'a table or more';
      found.push({
        id: `notable-${id}-${n.id}`,
        level: 'warning',
        title: `${what} of ${name} ${gone === 1 ? 'is' : 'are'} gone at once`,
        text: `${formatMoment(n.at, zone, now)}: ${n.statement.slice(0, 120)}. If that was not meant, bring it back as it was right before.`,
        since: n.at,
        action: {
          label: 'Go there',
          link: `/estate/${id}/second`,
          query: { at: String(n.at), commit: `${n.file}@${n.position}` },
        },
        second: null,
      });
    }
  }
  return found;
}
