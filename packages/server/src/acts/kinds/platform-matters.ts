import { countOf, formatDuration, formatFirst } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import { trialMatters } from '../recover/remove-trials';
import type { PlatformRow } from '../../records/systems/platform-rows';

const dayMs = 86_400_000;
const warnDays = 28;

/** Where the connection of a platform is mended. */
export const connectionLink = (sourceId: number): FoundMatter['action'] => ({
  label: 'Open the connection',
  link: `/estate/platforms/${sourceId}`,
  query: {},
});

/** Causes of failed runs that are mended at the connection of the platform. */
export const connectionCauses: readonly string[] = ['SIGN_IN_REFUSED', 'PASSWORD_EXPIRED', 'RIGHT_MISSING', 'SOURCE_AWAY'];

type Row = Pick<PlatformRow, 'id' | 'name' | 'trouble' | 'tried_at' | 'opener_ends'>;
const platforms = (deps: Deps) =>
  deps.db('source').where({ kind: 'platform' }).orderBy('name').select<Row[]>('id', 'name', 'trouble', 'tried_at', 'opener_ends');

/** What is wrong with platforms, and with what was made on them for a while. */
export const machineMatters = async (deps: Deps): Promise<FoundMatter[]> => [
  ...(await platformMatters(deps)),
  ...(await trialMatters(deps)),
];

/** Platforms that can't be read, and those for which the password or certificate ends soon. */
async function platformMatters(deps: Deps): Promise<FoundMatter[]> {
  const now = deps.clock.now();
  return (await platforms(deps)).flatMap((p): FoundMatter[] => {
    const base = { id: `platform-${p.id}`, action: connectionLink(p.id), second: null };
    if (p.trouble)
      return [
        {
          ...base,
          level: 'fault',
          title: `${p.name} can not be read`,
          text: `${p.trouble} What comes or goes there is not noticed meanwhile.`,
          since: p.tried_at ?? now,
        },
      ];
    if (p.opener_ends === null || p.opener_ends - now > warnDays * dayMs) return [];
    const left = p.opener_ends - now;
    const title = left > 0 ? `The password for ${p.name} ends in ${formatDuration(left)}` : `The password for ${p.name} has ended`;
    const text = 'Every run of its machines fails after that. Give it a new one, or a certificate, which lasts longer.';
    return [{ ...base, level: left > 0 ? 'warning' : 'fault', title, text, since: now }];
  });
}

/** Passwords and certificates that end within a year. */
export async function comingEnds(deps: Deps): Promise<{ at: number; text: string }[]> {
  const now = deps.clock.now();
  return (await platforms(deps)).flatMap(({ name, opener_ends: at }) =>
    at !== null && at > now + warnDays * dayMs && at < now + 365 * dayMs ? [{ at, text: `the password for ${name} ends` }] : [],
  );
}

/** Machines that came, went or moved within the last day. */
export async function changeMatters(deps: Deps): Promise<FoundMatter[]> {
  type Change = { what: string; name: string; at: number };
  const rows = await deps
    .db('estate_change as c')
    .join('workload as w', 'w.id', 'c.workload_id')
    .where('c.at', '>', deps.clock.now() - dayMs)
    .where('c.what', 'gone')
    .orderBy('c.id')
    .select<Change[]>('c.what', 'w.name', 'c.at');
  if (!rows.length) return [];
  const names = rows.map((r) => r.name);
  return [
    {
      id: 'gone',
      level: 'warning',
      title: `${countOf(rows.length, 'machine')} gone from the platform`,
      text: `${formatFirst(names, 4)}. What is stored of them stays until it expires.`,
      since: rows[0]!.at,
      action: { label: 'See what changed', link: '/estate', query: { show: 'changes' } },
      second: null,
    },
  ];
}
