import { formatDuration } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { SystemKind } from '@lithodex/kinds';
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
