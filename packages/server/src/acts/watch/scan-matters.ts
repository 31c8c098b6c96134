import { escapePath, formatMoment, grouped } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import { judgedPoints } from '../../records/trust/point-scans';
import { rulesInForce, scanSettings } from '../../records/trust/scan-rules';
import type { Deps } from '../deps';
import { cleanOf, findsOf } from '../trust/scans';

/** Workloads in whose newest point a scan found something infected, each with the point to go back to. */
export async function scanMatters({ db, config }: Deps): Promise<FoundMatter[]> {
  const bad = await db('point_scan').where('infected', '>', 0).distinct('workload_id').select<{ workload_id: number }[]>('workload_id');
  if (!bad.length) return [];
  const ids = bad.map((b) => b.workload_id);
  const { id: newest } = await rulesInForce(db, (await scanSettings(db)).scanner);
  const points = await judgedPoints(db, newest, (q) => void q.whereIn('p.workload_id', ids));
  const names = new Map(
    (await db('workload').whereIn('id', ids).select<{ id: number; name: string }[]>('id', 'name')).map((w) => [w.id, w.name]),
  );
  const found: FoundMatter[] = [];
  for (const [id, own] of grouped(points, (p) => p.workload_id)) {
    const last = own.at(-1)!;
    if (last.verdict !== 'infected') continue;
    const finds = (await findsOf(db, [last.id])).filter((f) => f.grade === 'infected');
    const first = own[own.findLastIndex((p) => p.verdict !== 'infected') + 1] ?? last;
    const clean = cleanOf(own);
    const [one] = finds;
    const more = new Set(finds.map((f) => f.path)).size - 1;
    const what = one ? `${escapePath(one.path)}${more > 0 ? ` and ${more} more` : ''}: ${one.about || one.rule}. ` : '';
    const since = `First in the point of ${formatMoment(first.moment, config.zone)}. `;
    const back = clean
      ? `The last ${clean.verdict === 'clean' ? 'one scanned clean' : 'one with nothing against it'} is of ${formatMoment(clean.moment, config.zone)}.`
      : 'No point of it is known to be clean.';
    found.push({
      id: `infected-${id}`,
      level: 'fault',
      title: `Something infected is in ${names.get(id) ?? 'a workload'}`,
      text: `${what}${since}${back}`,
      since: first.moment,
      action: { label: 'See what was found', link: '/trust/scans', query: { hours: '876000', ...(one && { q: one.sum }) } },
      second: clean ? { label: 'The last clean point', link: `/estate/${id}`, query: { at: String(clean.moment) } } : null,
    });
  }
  return found;
}
