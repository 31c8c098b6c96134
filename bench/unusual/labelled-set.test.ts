import fs from 'node:fs';
import os from 'node:os';
import { expect, it } from 'vitest';
import { judgeSeries, noFigures } from './judge-set';
import { labelledSet } from './labelled-set';
import { readSet, writeSet } from './set-file';

it('finds the attacks of a part of the labelled set, and takes its usual nights for usual', () => {
  const sum = noFigures();
  let no = 0;
  for (const series of labelledSet(7, (n) => n % 9 === 4)) {
    no++;
    judgeSeries(series, sum);
  }
  expect(no).toBeGreaterThan(15);
  expect(sum.attacks).toBeGreaterThan(9);
  expect(sum.told.filter((t) => t.endsWith('in time'))).toEqual([]);
  expect(sum.falseAlarms).toBeLessThanOrEqual(1);
  expect(sum.hit / (sum.hit + sum.missed)).toBeGreaterThan(0.95);
  expect(sum.hit / (sum.hit + sum.tooMany)).toBeGreaterThan(0.9);
});

it('reads a set that was written as what it was', () => {
  const file = `${fs.mkdtempSync(`${os.tmpdir()}/lithodex-set-`)}/set`;
  const set = [...labelledSet(3, (n) => n === 9 || n === 94)];
  writeSet(file, set);
  const [ours, theirs] = [set, readSet(fs.readFileSync(file, 'utf8'))].map((all) => {
    const sum = noFigures();
    for (const series of all) judgeSeries(series, sum);
    return sum;
  });
  fs.rmSync(file);
  expect(theirs).toEqual(ours);
  expect(ours!.attacks).toBe(2);
});
