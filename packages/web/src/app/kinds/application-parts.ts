import { applicationFacts, holdsWords, quietWords, volumeWords } from './application-words';
import { drivePlaces, ownFolder, share } from './common-places';
import { download, says, type KindParts, type PlaceOption } from './kind-parts';

export const applicationParts: KindParts = {
  noun: 'application',
  where(w) {
    const facts = applicationFacts(w);
    return facts ? volumeWords(facts) : 'application';
  },
  sourceFacts: (w) => [{ term: 'Cluster', text: '', link: { label: w.source.name, to: ['/estate/clusters', w.source.id] } }],
  links: (w) => [{ label: 'Bring it to another cluster', to: ['/estate', w.id, 'move'] }],
  besideAt: (path, w) => (/^resources\/[^/]+\/[^/]+$/.test(path) ? ['/estate', w.id, 'resource'] : undefined),
  pointRemarks(p) {
    const changes = says(`+${p.added} ~${p.changed} −${p.removed} items`);
    if (p.facts?.kind !== 'application') return [changes];
    const { text, warns } = quietWords(p.facts);
    return [changes, says(holdsWords(p.facts)), ...(text ? [says(text, warns)] : [])];
  },
  peek: async () => (await import('./application-peek')).ApplicationPeek,
  places(picks) {
    const inVolume = picks.some((p) => /^volumes\/[^/]+\//.test(p.path));
    const all: PlaceOption[] = [
      ...(inVolume
        ? []
        : [
            { value: 'original', label: 'where it was', destination: { to: 'original' } } as const,
            {
              value: 'application',
              label: 'another cluster or namespace',
              form: async () => (await import('./application-place')).ApplicationPlace,
              first: 'Say which cluster, and which namespace, first.',
            },
          ]),
      download('zip', 'a zip archive'),
      download('tar', 'a tar archive'),
      ownFolder,
      share,
      ...drivePlaces(picks),
    ];
    const [first, ...others] = picks;
    return others.length === 0 && first?.kind === 'file' ? [...all, download('file', 'the file itself')] : all;
  },
  rules: () => ['leave', 'replace'],
  starts: () => false,
  edits: false,
};
