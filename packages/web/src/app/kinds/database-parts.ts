import type { WorkloadRow } from '@lithodex/contract';
import { countOf, formatFirst } from '@lithodex/core';
import { databaseFacts, serverWords } from './database-words';
import { download, says, type KindParts, type PlaceOption } from './kind-parts';
import { drivePlaces } from './common-places';

const databasesOf = (w: WorkloadRow) => databaseFacts(w)?.databases ?? [];

const ofServer = (w: WorkloadRow) => {
  const facts = databaseFacts(w);
  return facts ? `, ${serverWords(facts)}` : '';
};

export const databaseParts: KindParts = {
  noun: 'database server',
  where: (w) => countOf(databasesOf(w).length, 'database'),
  sourceFacts: (w) => [
    {
      term: 'Database server',
      text: ofServer(w),
      link: { label: w.source.name, to: ['/estate/systems', w.source.id] },
    },
    {
      term: 'Databases',
      text: formatFirst(
        databasesOf(w).map((d) => d.name),
        20,
      ),
    },
  ],
  links: (w) => [{ label: 'Back to a second', to: ['/estate', w.id, 'second'] }],
  pointRemarks(p) {
    const { facts } = p;
    if (facts?.kind === 'databaseLog') return [says(`${countOf(facts.commits, 'commit')} since the one before`)];
    const changes = says(`+${p.added} ~${p.changed} −${p.removed} objects`);
    if (facts?.kind !== 'database') return [changes];
    const level = facts.level === 'application' ? says('all tables at one instant') : says('some tables not at one instant', true);
    return [changes, level, ...(facts.member ? [says(`read from the replica ${facts.member}`)] : [])];
  },
  peek: async () => (await import('./database-peek')).DatabasePeek,
  places(picks) {
    const all: PlaceOption[] = [
      { value: 'original', label: 'the server they came from', destination: { to: 'original' } },
      {
        value: 'server',
        label: 'another server or name',
        form: async () => (await import('./database-place')).DatabasePlace,
        first: 'Choose the server first.',
      },
      { value: 'scratch', label: 'a scratch server, to look into', destination: { to: 'scratch', minutes: 120 } },
      download('zip', 'a zip archive of text'),
      download('tar', 'a tar archive of text'),
      ...drivePlaces(picks),
    ];
    const [first, ...others] = picks;
    return others.length === 0 && first?.kind === 'file' ? [...all, download('file', 'text')] : all;
  },
  // nobody can tell how old a table is
  rules: () => ['leave', 'replace', 'beside'],
  starts: () => false,
  edits: true,
};
