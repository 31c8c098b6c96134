import { availableParallelism } from 'node:os';
import { Worker } from 'node:worker_threads';
import { findSensitive, placesOf, shippedPatterns } from '@lithodex/core';
import type { Kept } from './result';
import { sensitiveCorpus } from './trust/sensitive-corpus';

const each = 10_000;
const filler = 'the berth at the outer quay is free from ten to twelve, ask the pilot of the watch\n';

/** A text of the corpus among lines in which nothing is, about 24 MB of it. */
export function sensitiveText(seed: number): string {
  const { lines } = sensitiveCorpus(seed, each);
  return (lines.join('\n') + '\n' + filler.repeat(60_000)).repeat(4);
}

/** Reads such a text by all patterns. Gives bytes a second. */
export function readSensitive(seed: number): number {
  const text = sensitiveText(seed);
  const began = performance.now();
  findSensitive(text, shippedPatterns);
  return (text.length / (performance.now() - began)) * 1000;
}

/** What is found of planted numbers, what of numbers that only look so, and how fast two processors read. */
export async function sensitiveBench(seed: number, keeps: (k: Kept) => void): Promise<void> {
  const { lines, planted } = sensitiveCorpus(seed, each);
  const checked = shippedPatterns.filter((p) => p.holds);
  let [missed, wrong] = [0, 0];
  planted.forEach(({ pattern, text, real }, i) => {
    const line = lines[i]!;
    const own = checked.find((p) => p.id === pattern)!;
    if (real && ![...placesOf(line, own)].some(({ from, to }) => line.slice(from, to) === text)) missed++;
    if (!real && findSensitive(line, checked).length) wrong++;
  });
  keeps({ bench: 'sensitive: planted numbers missed', found: (missed / each) * 100, below: 1.001, unit: '%' });
  keeps({ bench: 'sensitive: numbers that only look so named', found: (wrong / each) * 100, below: 1.001, unit: '%' });
  const two = Math.min(2, availableParallelism());
  const rates = await Promise.all(
    Array.from(
      { length: two },
      (_, i) =>
        new Promise<number>((resolve, reject) => {
          const worker = new Worker(new URL(import.meta.url), { argv: ['--sensitive', String(seed + i)] });
          worker.once('message', resolve).once('error', reject);
        }),
    ),
  );
  const sum = rates.reduce((a, b) => a + b, 0) / 1e6;
  process.stdout.write(`  sensitive: ${sum.toFixed(0)} MB/s on ${two} processors\n`);
  keeps({ bench: 'sensitive: time for a megabyte', found: 1000 / sum, below: 20.001, unit: 'ms' });
}
