const text = (s: string): number[] => Array.from(s, (c) => c.charCodeAt(0));

/** What files begin with whose content is spread evenly by nature: compressed, pictures, sound, video, containers; by the published description of each format. None that only says that something is encrypted. */
const beginnings: readonly { readonly at: number; readonly bytes: readonly number[] }[] = [
  { at: 0, bytes: text('PK') },
  { at: 0, bytes: [0x1f, 0x8b] },
  { at: 0, bytes: [0x1f, 0x9d] },
  { at: 0, bytes: text('BZh') },
  { at: 0, bytes: [0xfd, ...text('7zXZ'), 0] },
  { at: 0, bytes: [0x28, 0xb5, 0x2f, 0xfd] },
  { at: 0, bytes: [0x04, 0x22, 0x4d, 0x18] },
  { at: 0, bytes: [...text('7z'), 0xbc, 0xaf, 0x27, 0x1c] },
  { at: 0, bytes: text('Rar!') },
  { at: 0, bytes: text('LZIP') },
  { at: 0, bytes: [0x5d, 0, 0] },
  { at: 0, bytes: [0x89, ...text('LZO')] },
  { at: 0, bytes: [0xff, 6, 0, 0, ...text('sNaPpY')] },
  { at: 0, bytes: [0x78, 0x01] },
  { at: 0, bytes: [0x78, 0x9c] },
  { at: 0, bytes: [0x78, 0xda] },
  { at: 0, bytes: text('MSCF') },
  { at: 0, bytes: [0xff, 0xd8, 0xff] },
  { at: 0, bytes: [0x89, ...text('PNG')] },
  { at: 0, bytes: text('GIF8') },
  { at: 0, bytes: text('RIFF') },
  { at: 0, bytes: text('II*') },
  { at: 0, bytes: [...text('MM'), 0, 0x2a] },
  { at: 0, bytes: [0xff, 0x0a] },
  { at: 0, bytes: [0xff, 0x4f, 0xff, 0x51] },
  { at: 4, bytes: text('ftyp') },
  { at: 4, bytes: text('mdat') },
  { at: 4, bytes: text('moov') },
  { at: 4, bytes: text('jP  ') },
  { at: 0, bytes: [0x1a, 0x45, 0xdf, 0xa3] },
  { at: 0, bytes: [0x30, 0x26, 0xb2, 0x75] },
  { at: 0, bytes: [0, 0, 1, 0xba] },
  { at: 0, bytes: [0, 0, 1, 0xb3] },
  { at: 0, bytes: text('FLV') },
  { at: 0, bytes: text('OggS') },
  { at: 0, bytes: text('fLaC') },
  { at: 0, bytes: text('ID3') },
  { at: 0, bytes: text('wOFF') },
  { at: 0, bytes: text('wOF2') },
  { at: 0, bytes: text('%PDF') },
  { at: 0, bytes: text('PAR1') },
  { at: 0, bytes: text('Obj\u0001') },
  { at: 0, bytes: text('ORC') },
  { at: 0, bytes: [0x89, ...text('HDF')] },
  { at: 0, bytes: [0x93, ...text('NUMPY')] },
  { at: 0, bytes: text('SQLite format 3') },
  { at: 0, bytes: text('!BDN') },
  { at: 0, bytes: text('QFI') },
  { at: 0, bytes: text('KDMV') },
  { at: 0, bytes: [0xed, 0xab, 0xee, 0xdb] },
  { at: 0, bytes: text('!<arch>') },
  { at: 0, bytes: text('xar!') },
  { at: 0, bytes: text('hsqs') },
  { at: 0, bytes: [0x7f, ...text('ELF')] },
  { at: 0, bytes: text('MZ') },
  { at: 0, bytes: [0xd0, 0xcf, 0x11, 0xe0] },
  { at: 257, bytes: text('ustar') },
];

/** Frames of MPEG sound begin with eleven set bits and a layer, packets of a transport stream with 0x47 every 188 bytes. */
function isFramed(head: Uint8Array): boolean {
  if (head[0] === 0xff && (head[1]! & 0xe0) === 0xe0 && (head[1]! & 0x06) !== 0) return true;
  return head.length > 376 && head[0] === 0x47 && head[188] === 0x47 && head[376] === 0x47;
}

/** So many bytes of the beginning are looked at, at most. */
export const formBytes = 512;

/** Whether content begins as a known format does whose bytes are spread evenly by nature, so that even bytes say nothing about it. `head`: its first bytes, {@link formBytes} at most. */
export function hasForm(head: Uint8Array): boolean {
  return (
    beginnings.some(({ at, bytes }) => head.length >= at + bytes.length && bytes.every((b, i) => head[at + i] === b)) || isFramed(head)
  );
}
