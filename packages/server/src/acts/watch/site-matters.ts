import { countOf, formatFirst } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Deps } from '../deps';
import { standingNow, struckOut, type Standing } from '../trust/strike';

/** All points of all workloads are looked at for it: not at every look at Watch. */
const goodForMs = 600_000;
const found = new WeakMap<Knex, { readonly at: number; readonly matters: FoundMatter[] }>();

/** Of sites with targets, where there is another with targets: what would be gone for good with one of them, though it could stand at the other too. */
export async function siteMatters({ db, clock }: Deps): Promise<FoundMatter[]> {
  const known = found.get(db);
  const now = clock.now();
  if (known && now - known.at < goodForMs) return known.matters;
  const matters = await lookedFor(db);
  found.set(db, { at: now, matters });
  return matters;
}

async function lookedFor(db: Knex): Promise<FoundMatter[]> {
  const targets = await db('target').whereNot({ location: '' }).distinct<{ location: string }[]>('location');
  if (targets.length < 2) return [];
  const standing = await standingNow(db);
  return targets.flatMap(({ location }): FoundMatter[] => {
    const lost = struckOut(standing, { sites: new Set([location]) })
      .map((outcome, i) => ({ ...outcome, ...pick(standing.workloads[i]!) }))
      .filter((o) => o.fate === 'lost' && o.pointsLost > 0);
    if (!lost.length) return [];
    const names = formatFirst(
      lost.map((o) => o.name),
      4,
    );
    return [
      {
        id: `site-${location}`,
        level: 'warning',
        title: `${countOf(lost.length, 'workload')} would be gone for good with ${location}`,
        text: `${names}: all points stand where the workload itself is. Give the policy a copy on a target elsewhere.`,
        since: Math.max(...lost.map((o) => o.newest)),
        action: { label: 'Strike it out', link: '/trust/strike', query: { site: location } },
        second: null,
      },
    ];
  });
}

const pick = ({ name, stands }: Standing['workloads'][number]) => ({ name, newest: Math.max(...stands.map((s) => s.newest)) });
