/** Tags of [MS-FSCC] 2.1.2. */
const tag = { junction: 0xa0000003, link: 0xa000000c, packed: 0x80000017, shared: 0x80000013 };

const reasons: Readonly<Record<number, string>> = {
  [tag.packed]: 'the system packed it in a way that is not read from outside',
  [tag.shared]: 'the system keeps its content elsewhere, shared with other files',
};

/** Where an item leads that stands for something else: its target (byte string), or why it can't be read. */
export function reparseOf(data: Buffer): { readonly target?: string; readonly unread?: string } {
  const kind = data.readUInt32LE(0);
  if (kind !== tag.junction && kind !== tag.link)
    return { unread: reasons[kind] ?? `it stands for something outside the disk (tag 0x${kind.toString(16)})` };
  const [realAt, realLength, shownAt, shownLength] = [8, 10, 12, 14].map((at) => data.readUInt16LE(at)) as [number, number, number, number];
  const paths = data.subarray(kind === tag.link ? 20 : 16);
  const text = shownLength ? paths.subarray(shownAt, shownAt + shownLength) : paths.subarray(realAt, realAt + realLength);
  const target = text
    .toString('utf16le')
    .replace(/^\\\?\?\\/, '')
    .replaceAll('\\', '/');
  return { target: Buffer.from(target, 'utf8').toString('latin1') };
}
