import { runStateWords, type RunDetail, type RunState } from '@lithodex/contract';
import { countOf, formatBytes, formatDuration, formatRate } from '@lithodex/core';
import type { Io } from './io';
import { harmless } from './table';

/** Exit status that tells how a run ended. */
export const endStatus: Readonly<Record<RunState, number>> = {
  done: 0,
  remarks: 0,
  partsMissing: 3,
  failed: 4,
  held: 5,
  stopped: 5,
  cutOff: 5,
  notStarted: 5,
  waiting: 6,
  running: 6,
};

const everyMs = 1000;
export const isOver = (state: RunState): boolean => state !== 'waiting' && state !== 'running';

/** How far a run is, in one line. */
export function progressWords(run: RunDetail): string {
  const { progress: p } = run;
  if (!p) return runStateWords[run.state];
  const share = p.expectedBytes > 0 ? ` of about ${formatBytes(p.expectedBytes)}` : '';
  const left = p.leftMs === null ? '' : `, about ${formatDuration(p.leftMs)} left`;
  return `${p.phase}: ${countOf(p.items, 'item')}, ${formatBytes(p.bytes)}${share}, ${formatRate(p.rate)}${left}`;
}

/** How a run ended, in words; with what went wrong and what to do. */
export function endWords(run: RunDetail): string {
  const took = run.startedAt !== null && run.endedAt !== null ? ` after ${formatDuration(run.endedAt - run.startedAt)}` : '';
  const { items, bytes, warnings } = run.counts;
  const lines = [
    `Run ${run.id}, ${harmless(run.name)}: ${runStateWords[run.state]}${took}. ${countOf(items, 'item')}, ${formatBytes(bytes)}${warnings ? `, ${countOf(warnings, 'remark')}` : ''}.`,
    ...(run.cause ? [`${harmless(run.cause.message)} ${harmless(run.cause.remedy)}`.trim()] : []),
  ];
  return lines.join('\n');
}

/** Waits until a run has ended, telling how far it is where somebody sits there. */
export async function followRun(io: Io, runId: number): Promise<RunDetail> {
  let told = '';
  for (;;) {
    const run = await io.server.call('getRun', { id: runId });
    const words = isOver(run.state) ? '' : progressWords(run);
    if (words !== told && (io.interactive || words === '' || told === '')) {
      if (io.interactive) process.stderr.write(`\r\u001b[K${words}`);
      else if (words) io.note(words);
      told = words;
    }
    if (isOver(run.state)) return run;
    await new Promise((resume) => setTimeout(resume, everyMs));
  }
}
