import { escapePath } from '@lithodex/core';
import type { Knex } from 'knex';

/** A name as it stands in a folder: byte strings, the folder by the key of its path. */
export interface PlacedName {
  readonly parent: Buffer;
  readonly name: string;
}

export const mostInBlock = 5000;
const mostTextInBlock = 1 << 20;
const parentBytes = 16;
const lineEnd = '\n';

/** Text a name is searched by; holds no control character. */
export function foldText(name: string): string {
  return name.normalize('NFC').toLowerCase();
}

const folded = (name: string) => foldText(escapePath(name)).slice(0, 1000);

/** What finds items by their names. */
interface Block {
  /** Folded names, UTF-8, each with a line end behind it. */
  readonly names: Buffer;
  /** Number of folders (u32), their keys, then for each name: the number of its folder (u32), how many bytes it has (u16; 0: those of its folded form), these bytes. Little-endian. */
  readonly refs: Buffer;
  readonly count: number;
}

/** Blocks of names, in their order. */
export function blocksOf(entries: readonly PlacedName[]): Block[] {
  const blocks: Block[] = [];
  for (let at = 0; at < entries.length;) {
    const parents = new Map<Buffer | string, number>();
    const keys: Buffer[] = [];
    const lines: string[] = [];
    const refs: Buffer[] = [];
    let text = 0;
    for (; at < entries.length && lines.length < mostInBlock && text < mostTextInBlock; at++) {
      const { parent, name } = entries[at]!;
      // the same object mostly
      let number = parents.get(parent) ?? parents.get(parent.toString('latin1'));
      if (number === undefined) {
        number = keys.push(parent) - 1;
        parents.set(parent.toString('latin1'), number);
      }
      parents.set(parent, number);
      const line = folded(name);
      text += line.length + 1;
      lines.push(line);
      const own = line === name ? '' : name;
      const ref = Buffer.allocUnsafe(6 + own.length);
      ref.writeUInt32LE(number, 0);
      ref.writeUInt16LE(own.length, 4);
      ref.write(own, 6, 'latin1');
      refs.push(ref);
    }
    const head = Buffer.allocUnsafe(4);
    head.writeUInt32LE(keys.length);
    blocks.push({ names: Buffer.from(lines.join(lineEnd) + lineEnd), refs: Buffer.concat([head, ...keys, ...refs]), count: lines.length });
  }
  return blocks;
}

/** The name at a place in a block, whose folded form is known. Undefined beyond its end. */
export function nameAt(refs: Buffer, place: number, foldedName: string): PlacedName | undefined {
  let at = 4 + refs.readUInt32LE(0) * parentBytes;
  for (let i = 0; i < place && at < refs.length; i++) at += 6 + refs.readUInt16LE(at + 4);
  if (at >= refs.length) return undefined;
  const key = 4 + refs.readUInt32LE(at) * parentBytes;
  const length = refs.readUInt16LE(at + 4);
  return { parent: refs.subarray(key, key + parentBytes), name: length ? refs.toString('latin1', at + 6, at + 6 + length) : foldedName };
}

/** Writes down names of a series that came with the point of an ordinal; 0 for names of any. */
export async function insertNames(trx: Knex.Transaction, series: number, ordinal: number, entries: readonly PlacedName[]): Promise<void> {
  for (const { names, refs, count } of blocksOf(entries))
    await trx('name_block').insert({ series_no: series, ordinal, count, names, refs });
}
