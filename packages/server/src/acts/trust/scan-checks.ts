import { countOf, escapePath, formatFirst } from '@lithodex/core';
import type { ScanFind } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { ResolvedPick } from '../recover/resolve-picks';
import type { Check } from '../recover/restore-planner';
import { findsOf } from './scans';

const mostNamed = 3;

/** What scans found in the items that are to be brought back. What is infected stands in the way, unless it is wanted nonetheless. */
export async function scanChecks(db: Knex, picks: readonly ResolvedPick[], despite: boolean): Promise<Check[]> {
  const points = [...new Set(picks.map((p) => p.point.id))];
  const wanted = new Map<string, string[]>();
  for (const { point, path } of picks) wanted.set(point.id, [...(wanted.get(point.id) ?? []), path]);
  const isAmong = (path: string, picked: string) => picked === '' || path === picked || path.startsWith(`${picked}/`);
  const found = (await findsOf(db, points)).filter((f) => wanted.get(f.pointId)!.some((picked) => isAmong(f.path, picked)));
  const named = (grade: ScanFind['grade']) => {
    const own = found.filter((f) => f.grade === grade);
    const paths = [...new Set(own.map((f) => escapePath(f.path)))];
    return { count: paths.length, words: formatFirst(paths, mostNamed) };
  };
  const [infected, suspect] = [named('infected'), named('suspect')];
  return [
    ...(infected.count
      ? [
          {
            level: despite ? ('look' as const) : ('stop' as const),
            code: 'INFECTED',
            text: `${countOf(infected.count, 'item')} among these ${infected.count === 1 ? 'is' : 'are'} infected: ${infected.words}. ${despite ? 'They are brought back as they are.' : 'Take the last clean point, or leave them out.'}`,
          },
        ]
      : []),
    ...(suspect.count
      ? [
          {
            level: 'look' as const,
            code: 'SCANNED_SUSPECT',
            text: `${countOf(suspect.count, 'item')} among these looked suspect to a scan: ${suspect.words}.`,
          },
        ]
      : []),
  ];
}
