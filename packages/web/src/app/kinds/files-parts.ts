import { cutMiddle } from '@lithodex/core';
import { download, everyRule, says, type KindParts, type PlaceOption } from './kind-parts';
import { drivePlaces, ownFolder, share } from './common-places';

/** A server that was read whole, made anew. */
const disks: PlaceOption = {
  value: 'disks',
  label: 'disks made anew, that a machine starts from',
  form: async () => (await import('./disks-place')).DisksPlace,
  first: 'Say how large the disks are, and the folder they go to.',
  fresh: true,
};

export const filesParts: KindParts = {
  noun: 'folder',
  where: (w) => cutMiddle(w.source.folder, 34),
  sourceFacts: (w) => [{ term: 'Folder on the mover', text: w.source.folder }],
  links: (w) => (w.wholeServer ? [{ label: 'Ready to be rebuilt?', to: ['/estate', w.id, 'ready'] }] : []),
  pointRemarks: (p) => [says(`+${p.added} ~${p.changed} −${p.removed} files`)],
  peek: async () => (await import('./folder-peek')).FolderPeek,
  places(picks) {
    const all: PlaceOption[] = [
      { value: 'original', label: 'where they came from', destination: { to: 'original' } },
      ownFolder,
      share,
      download('tar', 'a tar archive'),
      download('zip', 'a zip archive'),
      ...drivePlaces(picks),
    ];
    const [first, ...others] = picks;
    // only all of a point can start
    if (others.length === 0 && first?.path === '') all.push(disks);
    return others.length === 0 && first?.kind === 'file' ? [...all, download('file', 'the file itself')] : all;
  },
  rules: () => everyRule,
  starts: () => false,
  edits: false,
};
