import { formatDuration } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { TargetRow } from '../../records/targets/target-rows';
import type { Deps } from '../deps';

const minuteMs = 60_000;
/** Readings that may fail before it is said. */
const spared = 3;

/** Stores that another installation took, and stores of others that could not be read for a while. */
export async function ownerMatters({ db, clock }: Deps): Promise<FoundMatter[]> {
  const targets = await db('target').whereNotNull('follows_every').orWhereNotNull('owned_elsewhere').orderBy('name').select<TargetRow[]>();
  const now = clock.now();
  return targets.flatMap((t): FoundMatter[] => {
    const link = { label: 'See the target', link: `/storage/${t.id}`, query: {} };
    if (t.follows_every === null)
      return [
        {
          id: `owner-${t.id}`,
          level: 'fault',
          title: `${t.name} belongs to another installation`,
          text: 'It took the store over: nothing is written there from here any more. Follow it, take it back, or give the target up.',
          since: t.owned_elsewhere!,
          action: link,
          second: null,
        },
      ];
    const read = t.followed_at ?? t.created_at;
    const late = now - read;
    if (late <= (spared * t.follows_every + 1) * minuteMs) return [];
    return [
      {
        id: `behind-${t.id}`,
        level: 'warning',
        title: `${t.name} was not read for ${formatDuration(late)}`,
        text: `It belongs to another installation and is followed: its newest points are not known here.${t.trouble ? ` ${t.trouble}` : ''}`,
        since: read + t.follows_every * minuteMs,
        action: link,
        second: null,
      },
    ];
  });
}
