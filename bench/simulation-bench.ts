import { once } from 'node:events';
import { parentPort, Worker } from 'node:worker_threads';
import { decideRetention, median, nextRuns, simulate, type Keep, type KeptPoint } from '@lithodex/core';
import type { Result } from './result';

const day = 86_400_000;
const workloads = 500;
const days = 5 * 365;
/** The peer lives fewer workloads, as it would take minutes for all; its time is told for all. */
const peerShare = 1 / 250;

const keep: Keep = { by: 'days', days: 30, longTerm: { weeks: 8, months: 12, years: 5, day: 1 } };
const rule = { keep, lockDays: 0, zone: 'Europe/Oslo', schedule: { every: 'day' as const, at: '22:00' } };

/** Asks retention day by day what goes, as the server does. */
function liveDayByDay(moments: readonly number[], now: number): number {
  const future = nextRuns(rule, now, days);
  let alive: KeptPoint[] = moments.map((moment, i) => ({ id: `old-${i}`, moment, held: false, suspect: false }));
  let sum = 0;
  for (const [i, at] of future.entries()) {
    alive.push({ id: String(i), moment: at, held: false, suspect: false });
    const gone = new Set(
      decideRetention(alive, keep, at, false, rule.zone)
        .filter((d) => d.expires)
        .map((d) => d.id),
    );
    alive = alive.filter((p) => !gone.has(p.id));
    sum += alive.length;
  }
  return sum;
}

const now = Date.UTC(2026, 10, 23, 9);
const measured = Array.from({ length: workloads }, (_, i) => ({
  moments: [Array.from({ length: 40 }, (_x, k) => now - (40 - k) * day + i * 1000 + k * 77)],
  stored: 1e9,
  newPerDay: 1e7,
  growthPerDay: 1e5,
}));

/** Seconds of each of some lives, the first left out, as it warms up. */
function timed(runs: number, act: () => void): number[] {
  const seconds = Array.from({ length: runs + 1 }, () => {
    const began = performance.now();
    act();
    return (performance.now() - began) / 1000;
  });
  return seconds.slice(1);
}

/** Lives the policy in the thread it is called in, and tells its owner how long it took. */
export function simulateHere(runs: number): void {
  parentPort!.postMessage(timed(runs, () => void simulate(measured, [rule], now, days)));
}

/** A policy over 500 workloads, each with points of its own, lived five years ahead in a thread of its own, as the browser does. */
export async function simulationBench(runs: number, report: (r: Result) => void): Promise<void> {
  const worker = new Worker(process.argv[1]!, { argv: ['--simulate', String(runs)] });
  const [ours] = (await once(worker, 'message')) as [number[]];
  const peer = timed(runs, () => {
    for (const w of measured.slice(0, workloads * peerShare)) liveDayByDay(w.moments[0]!, now);
  });
  const [ours_s, peer_s] = [median(ours), median(peer) / peerShare];
  report({
    bench: '500 workloads, 5 years ahead',
    peer: 'retention asked day by day',
    ours_s,
    peer_s,
    ratio: peer_s / ours_s,
    runs,
    peak_mb: 0,
  });
}
