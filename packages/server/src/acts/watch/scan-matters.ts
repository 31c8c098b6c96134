import { escapePath, formatFirst, formatMoment, grouped } from '@lithodex/core';
import type { FoundMatter, ScanFind } from '@lithodex/contract';
import { judgedPoints, type JudgedPoint } from '../../records/trust/point-scans';
import { rulesInForce, scanSettings } from '../../records/trust/scan-rules';
import type { Deps } from '../deps';
import { cleanOf, findsOf } from '../trust/scans';

/** A workload in whose newest point a scan found something infected. */
interface Infected {
  readonly id: number;
  readonly name: string;
  readonly find: ScanFind;
  readonly more: number;
  /** The point since which it has been so. */
  readonly first: JudgedPoint;
  readonly clean: ReturnType<typeof cleanOf>;
}

/** What is infected in newest points, by content, each with the point to go back to. */
export async function scanMatters({ db, config }: Deps): Promise<FoundMatter[]> {
  const bad = await db('point_scan').where('infected', '>', 0).distinct('workload_id').select<{ workload_id: number }[]>('workload_id');
  if (!bad.length) return [];
  const ids = bad.map((b) => b.workload_id);
  const { id: newest } = await rulesInForce(db, (await scanSettings(db)).scanner);
  const points = await judgedPoints(db, newest, (q) => void q.whereIn('p.workload_id', ids));
  const names = new Map(
    (await db('workload').whereIn('id', ids).select<{ id: number; name: string }[]>('id', 'name')).map((w) => [w.id, w.name]),
  );
  const cases: Infected[] = [];
  for (const [id, own] of grouped(points, (p) => p.workload_id)) {
    const last = own.at(-1)!;
    if (last.verdict !== 'infected') continue;
    const [find, ...others] = (await findsOf(db, [last.id])).filter((f) => f.grade === 'infected');
    if (!find) continue;
    cases.push({
      id,
      name: names.get(id) ?? 'a workload',
      find,
      more: new Set(others.map((f) => f.path).filter((p) => p !== find.path)).size,
      first: own[own.findLastIndex((p) => p.verdict !== 'infected') + 1] ?? last,
      clean: cleanOf(own),
    });
  }
  const moment = (at: number) => formatMoment(at, config.zone);
  return [...grouped(cases, (c) => c.find.sum).values()].map((same): FoundMatter => {
    const one = same.reduce((a, b) => (b.first.moment < a.first.moment ? b : a));
    const { find, more, clean } = one;
    const what = `${escapePath(find.path)}${more > 0 ? ` and ${more} more` : ''}: ${find.about || find.rule}.`;
    const back = clean
      ? `the last ${clean.verdict === 'clean' ? 'one scanned clean' : 'one with nothing against it'} is of ${moment(clean.moment)}`
      : 'none of them is known to be clean';
    return {
      id: `infected-${find.sum.slice(0, 16)}`,
      level: 'fault',
      title: `Something infected is in ${formatFirst(
        same.map((c) => c.name),
        3,
      )}`,
      text: `${what} First in the point of ${one.name} of ${moment(one.first.moment)}; ${back}.`,
      since: one.first.moment,
      action: { label: 'See what was found', link: '/trust/scans', query: { hours: '876000', q: find.sum } },
      second: clean ? { label: 'The last clean point', link: `/estate/${one.id}`, query: { at: String(clean.moment) } } : null,
    };
  });
}
