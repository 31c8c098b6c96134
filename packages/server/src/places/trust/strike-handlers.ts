import { fates, type StruckRow } from '@lithodex/contract';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { moversLeft, standingNow, struckOut } from '../../acts/trust/strike';

const texts = (ids: readonly (number | string)[]) => new Set(ids.map(String));

/** What would be lost without something, and what comes back. */
export function strikeHandlers({ db }: Deps): Pick<Handlers, 'strikePlaces' | 'strikeOut'> {
  return {
    async strikePlaces() {
      const { workloads, targets, systems } = await standingNow(db);
      const count = <T>(all: readonly T[], is: (one: T) => boolean) => all.filter(is).length;
      const sites = [...new Set([...workloads, ...targets].map((x) => x.site))].filter(Boolean).sort();
      return {
        sites: sites.map((name) => ({
          name,
          workloads: count(workloads, (w) => w.site === name),
          targets: count(targets, (t) => t.site === name),
        })),
        systems: systems.map((s) => ({ ...s, workloads: count(workloads, (w) => w.system === String(s.id)) })),
        targets: targets.map(({ id, name, site, envelopeAt }) => ({ id, name, site, envelopeAt })),
      };
    },

    async strikeOut({ body }) {
      const standing = await standingNow(db);
      const sites = new Set(body.sites);
      const outcomes = struckOut(standing, {
        sites,
        systems: texts(body.systems),
        targets: new Set(body.targets),
        keys: new Set(body.keys),
        accounts: texts(body.accounts),
      });
      const targets = new Map(standing.targets.map((t) => [t.id, t.name]));
      const counts = { lost: 0, comesBack: 0, unprotected: 0, poorer: 0, untouched: 0 };
      const rows = standing.workloads.flatMap(({ id, name, kind, measuredMs }, i): StruckRow[] => {
        const { from, ...outcome } = outcomes[i]!;
        counts[outcome.fate]++;
        if (outcome.fate === 'untouched' && !outcome.shutOut) return [];
        const measured = outcome.takesMs !== null && measuredMs !== null;
        return [
          { ...outcome, workload: { id, name, kind }, from: from === null ? null : { id: from, name: targets.get(from) ?? '' }, measured },
        ];
      });
      rows.sort(
        (a, b) =>
          fates.indexOf(a.fate) - fates.indexOf(b.fate) ||
          (a.backMs ?? Infinity) - (b.backMs ?? Infinity) ||
          a.workload.name.localeCompare(b.workload.name),
      );
      const back = rows.filter((r) => r.fate === 'comesBack').map((r) => r.backMs);
      const known = back.every((ms) => ms !== null);
      const { left, atOnce } = moversLeft(standing, sites);
      return {
        rows,
        untouched: standing.workloads.length - rows.length,
        counts,
        backMs: back.length && known ? Math.max(...back) : null,
        atOnce,
        moversLeft: left,
        movers: standing.movers.length,
      };
    },
  };
}
