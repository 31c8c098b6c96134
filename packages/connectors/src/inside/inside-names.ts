/** What a name leads to in a tree that lies inside a disk: names of stored chunks are sums, these are places. */
export interface Place {
  readonly what: 'folder' | 'data';
  /** Number of the volume in its tree. */
  readonly volume: number;
  /** Number of the item in its file system. */
  readonly key: number;
  /** Bytes in the file, for data. */
  readonly offset: number;
  readonly length: number;
}

export const insideNameBytes = 32;
const codes = { folder: 1, data: 2 } as const;

/** 32 bytes, as long as the name of a chunk. */
export function insideName({ what, volume, key, offset, length }: Place): Buffer {
  const name = Buffer.alloc(insideNameBytes);
  name[0] = codes[what];
  name.writeUInt16LE(volume, 1);
  name.writeDoubleLE(key, 3);
  name.writeDoubleLE(offset, 11);
  name.writeUInt32LE(length, 19);
  return name;
}

export function placeOf(name: Buffer): Place {
  return {
    what: name[0] === codes.folder ? 'folder' : 'data',
    volume: name.readUInt16LE(1),
    key: name.readDoubleLE(3),
    offset: name.readDoubleLE(11),
    length: name.readUInt32LE(19),
  };
}
