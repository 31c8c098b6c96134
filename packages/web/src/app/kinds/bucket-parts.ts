import { askedWords, bucketFacts, classWords, olderWords, sizeWords, versioningWords } from './bucket-words';
import { drivePlaces, share } from './common-places';
import { download, everyRule, says, type KindParts, type PlaceOption } from './kind-parts';

export const bucketParts: KindParts = {
  noun: 'bucket',
  where(w) {
    const facts = bucketFacts(w);
    return facts ? sizeWords(facts) : 'bucket';
  },
  sourceFacts(w) {
    const facts = bucketFacts(w);
    return [
      { term: 'Object storage', text: '', link: { label: w.source.name, to: ['/estate/storages', w.source.id] } },
      ...(facts ? [{ term: 'Versions', text: versioningWords[facts.versioning] + (facts.locks ? '; it can lock them' : '') }] : []),
    ];
  },
  links: () => [],
  pointRemarks(p) {
    const changes = says(`+${p.added} ~${p.changed} −${p.removed} objects`);
    if (p.facts?.kind !== 'bucket') return [changes];
    const classes = classWords(p.facts);
    const older = olderWords(p.facts);
    return [changes, ...(older ? [says(older)] : []), says(askedWords(p.facts)), ...(classes ? [says(classes)] : [])];
  },
  peek: async () => (await import('./bucket-peek')).BucketPeek,
  places(picks) {
    const all: PlaceOption[] = [
      { value: 'original', label: 'where they were', destination: { to: 'original' } },
      {
        value: 'bucket',
        label: 'another bucket, prefix or second',
        form: async () => (await import('./bucket-place')).BucketPlace,
        first: 'Say which bucket, and which second, first.',
      },
      download('zip', 'a zip archive'),
      download('tar', 'a tar archive'),
      share,
      ...drivePlaces(picks),
    ];
    const [first, ...others] = picks;
    return others.length === 0 && first?.kind === 'file' ? [...all, download('file', 'the object itself')] : all;
  },
  rules: () => everyRule,
  starts: () => false,
  edits: false,
};
