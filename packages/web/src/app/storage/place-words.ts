import type { Target } from '@lithodex/contract';

const kinds = { folder: 'disk folder', bucket: 'bucket', cartridges: 'cartridges' } as const;

/** What kind of target it is, in words. */
export const kindOf = ({ place }: Pick<Target, 'place'>): string => kinds[place.kind];

/** Where a target is, in words. */
export function whereIs({ place }: Pick<Target, 'place'>): string {
  switch (place.kind) {
    case 'folder':
      return place.folder;
    case 'bucket':
      return `${place.endpoint}/${place.bucket}/${place.prefix}`;
    case 'cartridges':
      return `${place.barcodes}… in ${place.endpoint}`;
  }
}
