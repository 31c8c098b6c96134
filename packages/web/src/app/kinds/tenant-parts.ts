import type { WorkloadRow } from '@lithodex/contract';
import { drivePlaces, share } from './common-places';
import { download, everyRule, says, type KindParts, type PlaceOption } from './kind-parts';
import { countWords, memberNouns, readBeforeWords, tenantFacts } from './tenant-words';

const typeOf = (w: WorkloadRow) => tenantFacts(w)?.type ?? 'person';

export const tenantParts: KindParts = {
  noun: 'person or site',
  where: (w) => memberNouns[typeOf(w)],
  sourceFacts: (w) => [
    {
      term: 'Office tenant',
      text: `, ${memberNouns[typeOf(w)]}`,
      link: { label: w.source.name, to: ['/estate/tenants', w.source.id] },
    },
    ...(tenantFacts(w)?.mail ? [{ term: 'Mail', text: tenantFacts(w)!.mail }] : []),
    ...(tenantFacts(w)?.groups.length ? [{ term: 'Groups', text: tenantFacts(w)!.groups.join(', ') }] : []),
  ],
  links: () => [],
  pointRemarks(p) {
    const changes = says(`+${p.added} ~${p.changed} −${p.removed} items`);
    if (p.facts?.kind !== 'tenant') return [changes];
    const older = readBeforeWords(p.facts.readAt, p.moment);
    return [changes, says(countWords(p.facts.counts)), ...(older ? [says(older)] : [])];
  },
  comparedAt: '/recover/changes',
  peek: async () => (await import('./tenant-peek')).TenantPeek,
  places(picks) {
    const all: PlaceOption[] = [
      { value: 'original', label: 'where they were', destination: { to: 'original' } },
      {
        value: 'member',
        label: 'somebody else or another folder',
        form: async () => (await import('./tenant-place')).TenantPlace,
        first: 'Choose whom it goes to first.',
      },
      download('zip', 'a zip archive'),
      download('tar', 'a tar archive'),
      ...(picks.every((p) => /^Mail(?:\/|$)/.test(p.path))
        ? [download('mbox', 'a mailbox in one file'), download('maildir', 'a mailbox of folders and files')]
        : []),
      share,
      ...drivePlaces(picks),
    ];
    const [first, ...others] = picks;
    return others.length === 0 && first?.kind === 'file' ? [...all, download('file', 'the file itself')] : all;
  },
  rules: () => everyRule,
  starts: () => false,
  edits: false,
};
