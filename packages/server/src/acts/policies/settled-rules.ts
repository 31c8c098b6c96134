import { runsBetween, settledPoints, type Keep, type Timetable } from '@lithodex/core';
import { heaviestFirst, takesFor, type Consequences, type PolicyBody } from '@lithodex/contract';
import type { PolicyTimetable } from '../../records/policies/timetable';

type Settled = Consequences['settled'];

/** Over so long a time it is counted how often rules come due together. */
const spanMs = 364 * 86_400_000;
const mostAges = 400;

/** Share of a rule's runs whose point another rule takes. */
function shareTaken(own: Timetable, takers: readonly Timetable[], now: number): number {
  if (!takers.length) return 0;
  const runs = runsBetween(own, now, now + spanMs);
  const taken = new Set(takers.flatMap((t) => runsBetween(t, now, now + spanMs)));
  return runs.length ? runs.filter((at) => taken.has(at)).length / runs.length : 0;
}

/** A log stands as its newest points, which reach back as far as it is kept. */
function logSettled(keep: Keep) {
  const days = keep.by === 'days' ? keep.days : undefined;
  return {
    points: 2,
    furthestDays: days,
    ages: [0],
    arithmetic: `a log that reaches back ${days ?? 'as far as the oldest full'}${days ? ' days' : ''}`,
  };
}

/** How many points of a workload stand on the targets of a policy's rules once it has run for long enough, how far back they reach, and the arithmetic behind it. */
export function settledOf(body: PolicyBody, timetables: readonly PolicyTimetable[], now: number): Settled {
  const parts = body.rules.map((rule) => {
    const { no, kind, keep } = rule;
    if (kind === 'log') return logSettled(keep);
    const timetable = timetables.find((t) => t.rule === no)!;
    const all = settledPoints(timetable.schedule, keep);
    const inOrder = heaviestFirst(body.rules);
    const heavier = inOrder
      .slice(
        0,
        inOrder.findIndex((r) => r.no === no),
      )
      .filter((r) => takesFor(r, rule));
    if (all.points === undefined || keep.by !== 'days') return all;
    const takers = timetables.filter((t) => heavier.some((r) => r.no === t.rule));
    const taken = Math.round(all.points * shareTaken(timetable, takers, now));
    return taken ? { ...all, points: all.points - taken, arithmetic: `${all.arithmetic}, less ${taken} that another rule takes` } : all;
  });
  const open = parts.some((p) => p.points === undefined);
  const ages = [...new Set(parts.flatMap((p) => p.ages))].sort((a, b) => a - b);
  return {
    points: open ? null : parts.reduce((sum, p) => sum + p.points!, 0),
    furthestDays: parts.some((p) => p.furthestDays === undefined) ? null : Math.max(...parts.map((p) => p.furthestDays!)),
    ages: ages.slice(0, mostAges),
    arithmetic: parts.map((p) => p.arithmetic).join('; '),
  };
}
