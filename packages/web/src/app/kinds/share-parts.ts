import { drivePlaces, ownFolder, share } from './common-places';
import { download, everyRule, says, type KindParts, type PlaceOption } from './kind-parts';
import { heldWords, shareFacts } from './share-words';

export const shareParts: KindParts = {
  noun: 'network share',
  where(w) {
    const comment = shareFacts(w)?.comment ?? '';
    return comment === '' ? 'network share' : comment;
  },
  sourceFacts: (w) => [{ term: 'File server', text: '', link: { label: w.source.name, to: ['/estate/file-servers', w.source.id] } }],
  links: () => [],
  pointRemarks(p) {
    const changes = says(`+${p.added} ~${p.changed} −${p.removed} files`);
    return p.facts?.kind === 'share' ? [changes, says(heldWords(p.facts))] : [changes];
  },
  peek: async () => (await import('./share-peek')).SharePeek,
  places(picks) {
    const all: PlaceOption[] = [
      { value: 'original', label: 'where they were', destination: { to: 'original' } },
      {
        value: 'fileServer',
        label: 'another share, or a folder of one',
        form: async () => (await import('./file-server-place')).FileServerPlace,
        first: 'Say which share first.',
      },
      ownFolder,
      share,
      download('zip', 'a zip archive'),
      download('tar', 'a tar archive'),
      ...drivePlaces(picks),
    ];
    const [first, ...others] = picks;
    return others.length === 0 && first?.kind === 'file' ? [...all, download('file', 'the file itself')] : all;
  },
  rules: () => everyRule,
  starts: () => false,
  edits: false,
};
