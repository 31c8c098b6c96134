import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import type { KeptInstallation } from '../overview/installations';

/** So long one may be silent, ms. */
const silentMs = 15 * 60_000;

/** Other installations that do not answer. */
export async function installationMatters({ db, clock }: Deps): Promise<FoundMatter[]> {
  const rows = await db('installation').whereNot({ trouble: '' }).select<KeptInstallation[]>();
  return rows
    .filter((r) => clock.now() - (r.answered_at ?? 0) > silentMs)
    .map((r) => ({
      id: `installation-${r.id}`,
      level: 'warning' as const,
      title: `The installation ${r.name} can not be looked at`,
      text: r.trouble,
      action: { label: 'Open the overview', link: '/watch/installations', query: {} },
      second: null,
      since: r.answered_at ?? r.tried_at ?? clock.now(),
    }));
}
