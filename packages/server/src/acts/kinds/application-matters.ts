import type { FoundMatter } from '@lithodex/contract';
import { ApplicationPoint, type ApplicationFacts } from '@lithodex/kinds';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../deps';
import { connectionMatters } from './system-matters';

/** Where the connection of a cluster is mended. */
export const clusterLink = (sourceId: number): FoundMatter['action'] => ({
  label: 'Open the connection',
  link: `/estate/clusters/${sourceId}`,
  query: {},
});

/** Causes of failed runs that are mended at the connection of the cluster. */
export const applicationCauses: readonly string[] = ['CLUSTER_REFUSED', 'CLUSTER_AWAY', 'CLUSTER_RIGHT_MISSING'];

interface Row {
  readonly id: number;
  readonly name: string;
  readonly source_id: number;
  readonly facts: unknown;
  readonly tried_at: number | null;
  readonly moment: number | null;
  readonly point: unknown;
}

/** Clusters that can't be read, applications that can't be looked into, and pods that were not brought to rest for the newest point. */
export async function applicationMatters(deps: Deps): Promise<FoundMatter[]> {
  const { db } = deps;
  const found = await connectionMatters(deps, 'application', clusterLink);
  const newest = db('point').where({ state: 'visible' }).groupBy('workload_id').select('workload_id').max('moment as moment').as('n');
  const rows = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .leftJoin(newest, 'n.workload_id', 'w.id')
    .leftJoin('point as p', (on) => on.on('p.workload_id', 'w.id').andOn('p.moment', 'n.moment'))
    .whereIn('w.id', db('assignment').select('workload_id'))
    .where({ 'w.kind': 'application', 's.trouble': null })
    .whereNull('w.gone_at')
    .select<Row[]>('w.id', 'w.name', 'w.source_id', 'w.facts', 's.tried_at', 'p.moment', 'p.facts as point');
  for (const row of rows) {
    const { trouble } = fromJson<ApplicationFacts>(row.facts);
    if (trouble)
      found.push({
        id: `application-${row.id}`,
        level: 'fault',
        title: `The application ${row.name} can not be looked into`,
        text: trouble,
        action: clusterLink(row.source_id),
        second: null,
        since: row.tried_at ?? deps.clock.now(),
      });
    const quiet = ApplicationPoint.safeParse(fromJsonOrNull(row.point)).data?.quiet;
    if (quiet && quiet.failed > 0)
      found.push({
        id: `application-quiet-${row.id}`,
        level: 'warning',
        title: `${row.name} was not brought to rest`,
        text: `${quiet.failed} of its commands failed when its newest point was taken: its volumes are as after a loss of power. The log of the run says what each complained of.`,
        action: { label: 'Open the application', link: `/workloads/${row.id}`, query: {} },
        second: null,
        since: row.moment ?? deps.clock.now(),
      });
  }
  return [...new Map(found.map((m) => [m.id, m])).values()];
}
