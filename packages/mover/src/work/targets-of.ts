import type { PointRef, TargetRef, Work } from '@lithodex/contract';

/** The points a task reads. */
function pointsOf(work: Work): readonly PointRef[] {
  switch (work.type) {
    case 'restore':
    case 'download':
      return work.picks.map((p) => p.point);
    case 'attach':
    case 'runMachine':
    case 'drill':
      return [work.point];
    case 'copy':
      return work.points;
    case 'scan':
      return [...work.points, ...(work.since ? [work.since.point] : [])];
    default:
      return [];
  }
}

/** Targets a task reads: where its points stand, or else the one it is about. */
export function targetsRead(work: Work): TargetRef[] {
  return 'target' in work ? [work.target] : pointsOf(work).flatMap((p) => [p.target, ...p.others]);
}

/** All targets a task has to do with, each once. */
export function targetsOf(work: Work): TargetRef[] {
  const all = [...targetsRead(work), ...(work.type === 'copy' ? [work.to] : [])];
  return [...new Map(all.map((t) => [t.id, t])).values()];
}
