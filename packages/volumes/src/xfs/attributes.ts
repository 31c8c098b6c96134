import { readRuns, type Blocks } from '../blocks';
import { damaged } from '../errors';
import { posixAcl } from '../posix-acl';
import { forkRuns, localOf, type Fork } from './inode';
import type { XfsLayout } from './layout';

type Attribute = readonly [string, Buffer];
const flag = { local: 1, trusted: 2, secure: 4, incomplete: 0x80 };
const leafMagic = { old: 0xfbee, sums: 0x3bee };
/** What attributes of one item may take at most, in blocks of them. */
const mostBlocks = 4096;

/** Attributes as programs see them; values that are stored apart included. */
export async function xfsAttributes(disk: Blocks, layout: XfsLayout, fork: Fork | undefined): Promise<Attribute[]> {
  if (!fork) return [];
  const local = localOf(fork);
  if (local) return shortForm(local);
  const runs = await forkRuns(disk, layout, fork);
  const last = runs.at(-1);
  const blocks = Math.min(mostBlocks, last ? Math.floor((last.offset + last.length) / layout.blockSize) : 0);
  const at = (offset: number, length: number) => readRuns(disk, runs, offset, length);
  const found: Attribute[] = [];
  for (let n = 0; n < blocks; n++) {
    const block = await at(n * layout.blockSize, layout.blockSize);
    const magic = block.readUInt16BE(8);
    if (magic === leafMagic.old || magic === leafMagic.sums) found.push(...(await leaf(layout, block, magic === leafMagic.sums, at)));
  }
  return found;
}

function shortForm(data: Buffer): Attribute[] {
  const found: Attribute[] = [];
  let at = 4;
  for (let n = data[2] ?? 0; n > 0; n--) {
    const [nameLength, valueLength, bits] = [data.readUInt8(at), data.readUInt8(at + 1), data.readUInt8(at + 2)];
    const from = at + 3 + nameLength;
    if (from + valueLength > data.length) throw damaged('attributes');
    found.push(named(bits, data.toString('latin1', at + 3, from), data.subarray(from, from + valueLength)));
    at = from + valueLength;
  }
  return found;
}

async function leaf(
  layout: XfsLayout,
  block: Buffer,
  sums: boolean,
  at: (offset: number, length: number) => Promise<Buffer>,
): Promise<Attribute[]> {
  const found: Attribute[] = [];
  const [countAt, entriesAt] = sums ? [56, 80] : [12, 32];
  const count = block.readUInt16BE(countAt);
  for (let n = 0; n < count; n++) {
    const entry = entriesAt + n * 8;
    const place = block.readUInt16BE(entry + 4);
    const bits = block.readUInt8(entry + 6);
    if (bits & flag.incomplete) continue;
    if (bits & flag.local) {
      const [valueLength, nameLength] = [block.readUInt16BE(place), block.readUInt8(place + 2)];
      const from = place + 3 + nameLength;
      if (from + valueLength > block.length) throw damaged('attributes');
      found.push(named(bits, block.toString('latin1', place + 3, from), block.subarray(from, from + valueLength)));
      continue;
    }
    const [first, length, nameLength] = [block.readUInt32BE(place), block.readUInt32BE(place + 4), block.readUInt8(place + 8)];
    if (length > 65_536) throw damaged('attributes');
    found.push(named(bits, block.toString('latin1', place + 9, place + 9 + nameLength), await apart(layout, sums, first, length, at)));
  }
  return found;
}

/** A value in blocks of its own, each with a header where structures carry sums. */
async function apart(
  layout: XfsLayout,
  sums: boolean,
  first: number,
  length: number,
  at: (offset: number, length: number) => Promise<Buffer>,
): Promise<Buffer> {
  const header = sums ? 56 : 0;
  const parts: Buffer[] = [];
  for (let block = first, left = length; left > 0; block++) {
    const count = Math.min(left, layout.blockSize - header);
    parts.push(await at(block * layout.blockSize + header, count));
    left -= count;
  }
  return Buffer.concat(parts);
}

function named(bits: number, name: string, value: Buffer): Attribute {
  if (bits & flag.trusted && name === 'SGI_ACL_FILE') return ['system.posix_acl_access', aclValue(value)];
  if (bits & flag.trusted && name === 'SGI_ACL_DEFAULT') return ['system.posix_acl_default', aclValue(value)];
  const prefix = bits & flag.trusted ? 'trusted.' : bits & flag.secure ? 'security.' : 'user.';
  return [prefix + name, Buffer.from(value)];
}

function aclValue(stored: Buffer): Buffer {
  const count = Math.min(stored.readUInt32BE(0), Math.floor((stored.length - 4) / 12));
  return posixAcl(
    Array.from({ length: count }, (_, n) => {
      const at = 4 + n * 12;
      const tag = stored.readUInt32BE(at);
      return { tag, permissions: stored.readUInt16BE(at + 8), ...((tag === 2 || tag === 8) && { id: stored.readUInt32BE(at + 4) }) };
    }),
  );
}
