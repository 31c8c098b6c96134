import { formatDuration } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { SystemKind } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import type { SystemRow } from '../../records/systems/system-rows';

const dayMs = 86_400_000;
const warnDays = 28;

/** Systems of a kind that can't be read, and those for which what opens them ends soon. */
export async function connectionMatters(
  deps: Deps,
  kind: SystemKind,
  link: (sourceId: number) => FoundMatter['action'],
): Promise<FoundMatter[]> {
  const now = deps.clock.now();
  const rows = await deps.db('source').where({ kind }).orderBy('name').select<SystemRow[]>();
  return rows.flatMap((s): FoundMatter[] => {
    const base = { id: `system-${s.id}`, action: link(s.id), second: null };
    if (s.trouble) return [{ ...base, level: 'fault', title: `${s.name} can not be read`, text: s.trouble, since: s.tried_at ?? now }];
    if (s.opener_ends === null || s.opener_ends - now > warnDays * dayMs) return [];
    const left = s.opener_ends - now;
    const title = left > 0 ? `The password for ${s.name} ends in ${formatDuration(left)}` : `The password for ${s.name} has ended`;
    return [{ ...base, level: left > 0 ? 'warning' : 'fault', title, text: 'Every run fails after that. Give it a new one.', since: now }];
  });
}

/** Workloads that are to be protected and can't be listed, though their system can be read; `noun`: what one is called. */
export async function shutMatters(
  deps: Deps,
  kind: SystemKind,
  noun: string,
  link: (sourceId: number) => FoundMatter['action'],
): Promise<FoundMatter[]> {
  const shut = await deps
    .db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .whereIn('w.id', deps.db('assignment').select('workload_id'))
    .where({ 'w.kind': kind, 's.trouble': null })
    .whereNull('w.gone_at')
    .whereRaw("JSON_VALUE(w.facts, '$.trouble') <> ''")
    .select<{ id: number; name: string; source_id: number; facts: unknown; tried_at: number | null }[]>(
      'w.id',
      'w.name',
      'w.source_id',
      'w.facts',
      's.tried_at',
    );
  return shut.map(({ id, name, source_id, facts, tried_at }) => ({
    id: `${kind}-${id}`,
    level: 'fault',
    title: `The ${noun} ${name} can not be listed`,
    text: fromJson<{ trouble: string }>(facts).trouble,
    action: link(source_id),
    second: null,
    since: tried_at ?? deps.clock.now(),
  }));
}
