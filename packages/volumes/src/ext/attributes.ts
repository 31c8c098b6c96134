import type { Blocks } from '../blocks';
import { posixAcl, type AclEntry } from '../posix-acl';
import type { Inode } from './inode';
import type { ExtLayout } from './superblock';

const magic = 0xea020000;
const prefixes: Readonly<Record<number, string>> = {
  1: 'user.',
  2: 'system.posix_acl_access',
  3: 'system.posix_acl_default',
  4: 'trusted.',
  6: 'security.',
  7: 'system.',
  8: 'system.richacl',
};

type Attribute = readonly [string, Buffer];

/** Name under which content that lies in the inode goes on. */
export const inlineRest = 'system.data';

function entriesIn(area: Buffer, first: number, valuesFrom: number, out: [string, Buffer][]): void {
  for (let at = first; at + 16 <= area.length && area.readUInt32LE(at) !== 0;) {
    const nameLength = area[at]!;
    const index = area[at + 1]!;
    const offset = area.readUInt16LE(at + 2);
    const elsewhere = area.readUInt32LE(at + 4);
    const size = area.readUInt32LE(at + 8);
    const name = `${prefixes[index] ?? `index${index}.`}${area.toString('latin1', at + 16, at + 16 + nameLength)}`;
    const from = valuesFrom + offset;
    // a value in an inode of its own is longer than what other systems take
    if (elsewhere === 0 && from + size <= area.length) out.push([name, Buffer.from(area.subarray(from, from + size))]);
    at += (16 + nameLength + 3) & ~3;
  }
}

/** Attributes of an inode as programs see them, those that hold its own content included. */
export async function attributesOf(disk: Blocks, layout: ExtLayout, inode: Inode): Promise<Attribute[]> {
  const found: [string, Buffer][] = [];
  const { data } = inode;
  if (data.length > 132) {
    const from = 128 + data.readUInt16LE(128);
    if (from + 4 <= data.length && data.readUInt32LE(from) === magic) entriesIn(data, from + 4, from + 4, found);
  }
  if (inode.attributeBlock) {
    const block = await disk.read(inode.attributeBlock * layout.blockSize, layout.blockSize);
    if (block.readUInt32LE(0) === magic) entriesIn(block, 32, 0, found);
  }
  return found.map(([name, value]) => [name, name.startsWith('system.posix_acl_') ? aclValue(value) : value]);
}

/** An access list as it is stored: entries without an id are four bytes long. */
function aclValue(stored: Buffer): Buffer {
  const entries: AclEntry[] = [];
  for (let at = 4; at + 4 <= stored.length;) {
    const tag = stored.readUInt16LE(at);
    const permissions = stored.readUInt16LE(at + 2);
    const named = tag === 2 || tag === 8;
    entries.push({ tag, permissions, ...(named && at + 8 <= stored.length && { id: stored.readUInt32LE(at + 4) }) });
    at += named ? 8 : 4;
  }
  return posixAcl(entries);
}
