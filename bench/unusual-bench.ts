import fs from 'node:fs';
import type { Kept } from './result';
import { judgeSeries, noFigures } from './unusual/judge-set';
import { labelledSet } from './unusual/labelled-set';
import { readSet, writeSet } from './unusual/set-file';

/** Judges a labelled set of points, ours or one that is given as a file, and says what of it was found. */
export function unusualBench(seed: number, given: string | undefined, written: string | undefined, keeps: (k: Kept) => void): void {
  if (written) writeSet(written, labelledSet(seed));
  const sum = noFigures();
  for (const series of given ? readSet(fs.readFileSync(given, 'utf8')) : labelledSet(seed)) judgeSeries(series, sum);
  for (const line of sum.told) process.stdout.write(`  ${line}\n`);
  const share = (part: number, whole: number) => (whole ? (part / whole) * 100 : 0);
  process.stdout.write(
    `  ${sum.points} points, ${sum.attacks} attacks, ${sum.falseAlarms} false alarms in ${sum.quietPoints} usual points\n`,
  );
  keeps({ bench: 'unusual: attacks not found in time', found: share(sum.attacks - sum.found, sum.attacks), below: 5.001, unit: '%' });
  keeps({ bench: 'unusual: false alarms', found: share(sum.falseAlarms, sum.quietPoints) * 10, below: 1.001, unit: 'in 1 000 points' });
  if (!sum.hit) return;
  keeps({ bench: 'unusual: damaged items missed', found: share(sum.missed, sum.hit + sum.missed), below: 1.001, unit: '%' });
  keeps({ bench: 'unusual: undamaged items named', found: share(sum.tooMany, sum.hit + sum.tooMany), below: 1.001, unit: '%' });
}
