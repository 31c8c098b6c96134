import { ChangeReader, judgePoint, usualHoldFrom, type Damaged, type EarlierPoint } from '@lithodex/core';
import type { LabelledSeries } from './labelled-set';

/** How the judging of a set came out. */
export interface SetFigures {
  points: number;
  attacks: number;
  found: number;
  quietPoints: number;
  falseAlarms: number;
  hit: number;
  tooMany: number;
  missed: number;
  readonly told: string[];
}

export const noFigures = (): SetFigures => ({
  points: 0,
  attacks: 0,
  found: 0,
  quietPoints: 0,
  falseAlarms: 0,
  hit: 0,
  tooMany: 0,
  missed: 0,
  told: [],
});

const terms = { limit: 1, holdFrom: usualHoldFrom };
const lookedAt = 70;

/** Judges every point of a series as the server does, night after night; a false alarm is told to be usual by a person, as it would be. */
export function judgeSeries(series: LabelledSeries, sum: SetFigures): void {
  const history: EarlierPoint[] = [];
  let found = false;
  let attacked = false;
  for (const [night, point] of series.points.entries()) {
    const judged = judgePoint(point.counts, point.moment, history.slice(-lookedAt), terms);
    sum.points++;
    if (!point.attacked) {
      sum.quietPoints++;
      if (judged.suspect) {
        sum.falseAlarms++;
        sum.told.push(`${series.name}, night ${night}, ${point.note || 'a usual night'}: ${judged.reasons.join('; ')}`);
      }
    } else {
      const first = !attacked;
      attacked = true;
      if (judged.suspect && !found && (series.slow ? point.damagedBefore < 0.05 : first)) found = true;
      if (judged.suspect && point.changes)
        compare(
          series,
          night,
          judged.signs.some((s) => s.code === 'deleted'),
          sum,
        );
    }
    history.push({ moment: point.moment, counts: point.counts, held: point.attacked && judged.suspect });
  }
  if (!attacked) return;
  sum.attacks++;
  if (found) sum.found++;
  else sum.told.push(`${series.name}: ${series.attack} was not found in time`);
}

function compare(series: LabelledSeries, night: number, deleted: boolean, sum: SetFigures): void {
  const point = series.points[night]!;
  const reader = new ChangeReader();
  for (const change of point.changes!) reader.add(change);
  const wanted = (d: Damaged) => d.how !== 'gone' || deleted;
  const told = new Set(
    reader
      .read(point.counts.before, point.moment)
      .damaged.filter(wanted)
      .map((d) => `${d.folder}/${d.name}`),
  );
  const real = point.damaged!;
  for (const path of told)
    if (real.has(path)) sum.hit++;
    else sum.tooMany++;
  for (const path of real) if (!told.has(path)) sum.missed++;
}
