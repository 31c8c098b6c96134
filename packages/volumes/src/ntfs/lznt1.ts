import { damaged } from '../errors';

const chunkBytes = 4096;

/** Opens what was packed by LZNT1 ([MS-XCA] 2.5), up to `most` bytes; what is missing is zeros. Throws DISK_DAMAGED. */
export function openLznt1(packed: Buffer, most: number): Buffer {
  const out = Buffer.alloc(most);
  let to = 0;
  for (let at = 0; at + 2 <= packed.length && to < most;) {
    const header = packed.readUInt16LE(at);
    if (header === 0) break;
    at += 2;
    const end = at + (header & 0xfff) + 1;
    if (end > packed.length) throw damaged('packed content');
    if (header & 0x8000) openChunk(packed, at, end, out, to);
    else packed.copy(out, to, at, end);
    to += chunkBytes;
    at = end;
  }
  return out;
}

function openChunk(packed: Buffer, from: number, end: number, out: Buffer, start: number): void {
  let to = start;
  const limit = Math.min(out.length, start + chunkBytes);
  for (let at = from; at < end;) {
    const flags = packed[at++]!;
    for (let bit = 0; bit < 8 && at < end; bit++) {
      if (!((flags >> bit) & 1)) {
        if (to >= limit) throw damaged('packed content');
        out[to++] = packed[at++]!;
        continue;
      }
      const pair = packed.readUInt16LE(at);
      at += 2;
      let bits = 4;
      while (to - start > 1 << bits) bits++;
      const length = (pair & ((1 << (16 - bits)) - 1)) + 3;
      const back = (pair >> (16 - bits)) + 1;
      if (back > to - start || to + length > limit) throw damaged('packed content');
      for (let i = 0; i < length; i++, to++) out[to] = out[to - back]!;
    }
  }
}
