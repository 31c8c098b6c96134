import { countOf, formatBytes, formatDuration, formatFirst, longestGap } from '@lithodex/core';
import type { Consequences, PolicyBody } from '@lithodex/contract';
import { kindNames, kinds, type DatabaseFacts } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../../acts/deps';

const minuteMs = 60_000;

/** What one should know of a policy whose runs go by the log of workloads. */
export async function logWarnings(deps: Deps, body: PolicyBody, matches: Consequences['matches']): Promise<Consequences['warnings']> {
  const { rules } = body;
  const found: Consequences['warnings'] = [];
  if (rules.every((r) => r.kind === 'full')) return found;
  const rows = await deps
    .db('workload')
    .whereIn(
      'id',
      matches.map((m) => m.id),
    )
    .select<{ name: string; kind: (typeof kindNames)[number]; facts: unknown }[]>('name', 'kind', 'facts');
  const servers = rows.filter((w) => w.kind === 'database').map((w) => ({ name: w.name, facts: fromJson<DatabaseFacts>(w.facts) }));
  const readWhole = servers.filter(({ facts }) => facts.family === 'postgresql' || !facts.logs.on).map((s) => s.name);
  if (readWhole.length && rules.some((r) => r.kind === 'incremental' || r.kind === 'differential'))
    found.push({
      code: 'READS_EVERYTHING',
      text: `Of ${formatFirst(readWhole, 4)} every run reads everything: no log tells which tables changed. What did not change is not stored again all the same.`,
    });
  if (!rules.some((r) => r.kind === 'log')) return found;
  for (const { kind, schedule, objectiveMinutes } of rules) {
    const gap = longestGap(schedule) / minuteMs;
    if (kind === 'log' && objectiveMinutes && gap > objectiveMinutes)
      found.push({
        code: 'SECONDS_TOO_OLD',
        text: `The log is taken ${Number.isFinite(gap) ? `every ${formatDuration(gap * minuteMs)}` : 'when somebody says so'}, but the newest second may be at most ${formatDuration(objectiveMinutes * minuteMs)} old.`,
      });
  }
  const without = rows.filter((w) => !kinds[w.kind].logs);
  if (without.length)
    found.push({ code: 'NO_LOG', text: `${countOf(without.length, 'workload')} of these have no log: that rule passes them over.` });
  const off = servers.filter(({ facts }) => !facts.logs.on).map((s) => s.name);
  const withFiles = servers.filter(({ facts }) => facts.family === 'postgresql' && facts.logs.on);
  if (withFiles.length) {
    const bytes = withFiles.reduce((sum, { facts }) => sum + facts.databases.reduce((all, d) => all + d.bytes, 0), 0);
    const names = formatFirst(
      withFiles.map((s) => s.name),
      4,
    );
    found.push({
      code: 'LOG_NEEDS_FILES',
      text: `Every full of ${names} holds the files of the server beside the text, as its log leads on from these only: about ${formatBytes(bytes)} more are read.`,
    });
  }
  if (off.length) found.push({ code: 'LOG_OFF', text: `No log is written by ${formatFirst(off, 4)}: turn it on there first.` });
  if (!rules.some((r) => r.kind === 'full'))
    found.push({ code: 'LOG_ALONE', text: 'A log leads from a full to a second. Without a rule that takes a full it leads nowhere.' });
  if (body.include.length || body.exclude.length)
    found.push({
      code: 'LOG_IS_WHOLE',
      text: 'The log is that of the whole server: what patterns leave out of the fulls lacks when it is replayed. Take all databases to reach any second.',
    });
  return found;
}
