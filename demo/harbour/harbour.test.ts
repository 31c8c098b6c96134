import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import { looksRandom } from '@lithodex/core';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { temporaryFolder } from '../../tests/support/nasty-tree';
import { chart, still } from './contents';
import { Random } from './random';
import { encryptCharts, harbourServers } from './servers';

let base: string;
const first = Date.UTC(2026, 9, 19);
beforeEach(() => {
  base = temporaryFolder('harbour');
});
afterEach(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

const server = (name: string) => harbourServers.find((s) => s.name === name)!;
const sums = (folder: string) =>
  execFileSync('bash', ['-c', 'cd "$0" && find . -type f | sort | xargs -d "\\n" b2sum', folder], { encoding: 'utf8' });

it('makes the same servers from the same seed', () => {
  for (const copy of ['a', 'b']) {
    const folder = `${base}/${copy}/servers/pilot-rosters`;
    fs.mkdirSync(folder, { recursive: true });
    const random = new Random(7);
    server('pilot-rosters').fill(folder, random, first);
    for (let day = 0; day < 8; day++) server('pilot-rosters').work(folder, random, day, first + day * 86_400_000);
  }
  expect(sums(`${base}/a/servers/pilot-rosters`)).toBe(sums(`${base}/b/servers/pilot-rosters`));
});

it('makes contents that do not look encrypted, and an attack that does', () => {
  const random = new Random(3);
  for (let i = 0; i < 10; i++) {
    expect(looksRandom(chart(random, 'x', 100_000).subarray(0, 16_384))).toBe(false);
    expect(looksRandom(still(random, 60_000).subarray(0, 16_384))).toBe(false);
  }
  const folder = `${base}/servers/charts-nas`;
  fs.mkdirSync(folder, { recursive: true });
  server('charts-nas').fill(folder, random, first);
  const before = execFileSync('find', [folder, '-name', '*.chart'], { encoding: 'utf8' }).trim().split('\n').length;
  encryptCharts(folder, random, first);
  const twins = execFileSync('find', [folder, '-name', '*.chart.krx'], { encoding: 'utf8' }).trim().split('\n');
  expect(twins.length).toBeGreaterThan(before * 0.9);
  expect(looksRandom(fs.readFileSync(twins[0]!))).toBe(true);
  expect(fs.existsSync(`${folder}/current/buoys.csv.krx`)).toBe(false);
});
