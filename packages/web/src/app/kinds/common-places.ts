import type { PickedItem } from '../data/picks';
import type { PlaceOption } from './kind-parts';

/** A share in the network, for what is files. */
export const share: PlaceOption = {
  value: 'share',
  label: 'a share in the network',
  form: async () => (await import('./share-place')).SharePlace,
  first: 'Choose a share first.',
  fresh: true,
};

/** A folder of the mover's host. */
export const ownFolder: PlaceOption = {
  value: 'folder',
  label: 'another folder on the mover',
  form: async () => (await import('./folder-place')).FolderPlace,
  own: async () => (await import('./folder-own')).FolderOwn,
  first: 'Name the folder first.',
};

/** A folder can be looked through where it is. */
export function drivePlaces([first, ...others]: readonly PickedItem[]): PlaceOption[] {
  if (!first || others.length || first.kind !== 'folder') return [];
  return [
    {
      value: 'drive',
      label: 'a drive that I can look through',
      form: async () => (await import('./attach-place')).AttachPlace,
      inputs: { as: 'drive' },
      uses: { verb: 'Attach', lands: '/recover/attached' },
    },
  ];
}
