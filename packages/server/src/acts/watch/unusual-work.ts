import { countOf, formatBytes, formatDuration, formatFirst, outOfUsual } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import { newestPerWorkload, nightStart, type NightRow } from './night';

/** Below these nothing is worth a person's time. */
const leastBytes = 50e6;
const leastMs = 5 * 60_000;
const mostNamed = 4;

interface Unusual {
  readonly task: NightRow;
  readonly times: number;
  readonly words: string;
}

/** Workloads that wrote far more, or took far longer, than in the nights before. */
export async function unusualWork(deps: Deps): Promise<FoundMatter[]> {
  const from = nightStart(deps.clock.now(), deps.config.zone, 1);
  const [tonight, earlier] = await Promise.all([deps.nights.tasks(from), deps.nights.before(from)]);
  const [grown, slow]: [Unusual[], Unusual[]] = [[], []];
  for (const task of newestPerWorkload(tonight)) {
    if (task.ended_at === null || task.stored === null) continue;
    const history = earlier.took(task.workload_id);
    const ms = task.ended_at - task.started_at;
    const more = outOfUsual(
      history.map((t) => t.stored),
      task.stored,
      leastBytes,
    );
    if (more) grown.push({ task, times: more, words: formatBytes(task.stored) });
    const longer = outOfUsual(
      history.map((t) => t.ms),
      ms,
      leastMs,
    );
    if (longer) slow.push({ task, times: longer, words: formatDuration(ms) });
  }
  return [...matterOf('grown', 'wrote far more than usual', grown), ...matterOf('slow', 'took far longer than usual', slow)];
}

function matterOf(id: string, what: string, found: Unusual[]): FoundMatter[] {
  const worst = found.sort((a, b) => b.times - a.times)[0];
  if (!worst) return [];
  const told = found.map(({ task, times, words }) => `${task.workload}: ${words}, ${Math.round(times)} times the usual`);
  return [
    {
      id,
      level: 'warning',
      title: `${found.length === 1 ? worst.task.workload : countOf(found.length, 'workload')} ${what}`,
      text: `${formatFirst(told, mostNamed, told.length, '; ')}.`,
      since: Math.min(...found.map((f) => f.task.started_at)),
      action: { label: 'See its run', link: `/runs/${worst.task.run_id}`, query: {} },
      second: { label: 'Earlier runs', link: '/runs', query: { workload: String(worst.task.workload_id) } },
    },
  ];
}
