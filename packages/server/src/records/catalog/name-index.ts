import { setImmediate } from 'node:timers/promises';
import { searchedBytes, type SearchedBytes } from '@lithodex/core';
import type { Knex } from 'knex';

/** Bytes of names kept in one piece; searched without a pause. */
const pieceBytes = 32 << 20;
/** Before them in each piece: what is looked for. */
const needleBytes = 4096;
const blocksAtOnce = 40;
/** Pieces are filled anew when so much of them is of blocks that are gone. */
const mostGone = 0.3;
/** What was written under numbers before the newest, by those that took longer, is looked for so far back at every search, and everywhere so often. */
const lateNumbers = 200;
const wholeEveryMs = 60_000;
const lineEnd = 10;

interface Piece extends Pick<SearchedBytes, 'find'> {
  readonly bytes: Buffer;
  used: number;
  blocks: KeptBlock[];
}

interface KeptBlock {
  readonly no: number;
  readonly series: number;
  readonly from: number;
  readonly end: number;
}

/** A name that holds what was looked for. */
export interface NameHit {
  readonly block: number;
  /** Its place in the block. */
  readonly entry: number;
  readonly series: number;
  readonly folded: string;
}

/** All names of the catalog, in memory, as they are searched: 25 bytes or so an item. Follows what stands in the database, which other servers write to as well. */
export class NameIndex {
  private pieces: Piece[] = [];
  private readonly known = new Set<number>();
  private goneBytes = 0;
  private newest = 0;
  private wholeAt = -Infinity;
  private reading: Promise<void> | undefined;

  constructor(private readonly db: Knex) {}

  /** Names that hold a folded text, of all series or of some; no more than `most`. */
  async find(text: string, only: ReadonlySet<number> | null, most: number): Promise<NameHit[]> {
    await this.follow();
    const needle = Buffer.from(text);
    const hits: NameHit[] = [];
    if (!needle.length || needle.length > needleBytes || needle.includes(lineEnd)) return hits;
    for (const piece of this.pieces) {
      needle.copy(piece.bytes);
      searchPiece(piece, needle.length, only, most, hits);
      if (hits.length >= most) break;
      await setImmediate();
    }
    return hits;
  }

  /** Reads what was written, and forgets what was removed, since it looked last. */
  async follow(): Promise<void> {
    await (this.reading ??= this.read().finally(() => {
      this.reading = undefined;
    }));
  }

  private async read(): Promise<void> {
    const whole = Date.now() - this.wholeAt >= wholeEveryMs;
    const numbers = this.db('name_block').orderBy('no').select<{ no: number }[]>('no');
    const there = (await (whole ? numbers : numbers.where('no', '>', this.newest - lateNumbers))).map((b) => b.no);
    if (whole) {
      this.forget(new Set(there));
      this.wholeAt = Date.now();
    }
    const missing = there.filter((no) => !this.known.has(no));
    for (let at = 0; at < missing.length; at += blocksAtOnce) {
      const rows = await this.db('name_block')
        .whereIn('no', missing.slice(at, at + blocksAtOnce))
        .orderBy('no')
        .select<{ no: number; series_no: number; names: Buffer }[]>('no', 'series_no', 'names');
      for (const row of rows) this.keep(row.no, row.series_no, row.names);
    }
  }

  private forget(there: ReadonlySet<number>): void {
    for (const piece of this.pieces)
      piece.blocks = piece.blocks.filter(({ no, from, end }) => {
        if (there.has(no)) return true;
        this.known.delete(no);
        this.goneBytes += end - from;
        return false;
      });
    const used = this.pieces.reduce((sum, piece) => sum + piece.used, 0);
    if (this.goneBytes <= used * mostGone) return;
    this.pieces = [];
    this.known.clear();
    this.goneBytes = 0;
  }

  private keep(no: number, series: number, names: Buffer): void {
    let piece = this.pieces.at(-1);
    if (!piece || piece.used + names.length > piece.bytes.length) {
      const length = needleBytes + Math.max(names.length, this.pieces.length ? pieceBytes : pieceBytes >> 3);
      const { bytes, find } = searchedBytes(length);
      piece = { bytes: Buffer.from(bytes.buffer, bytes.byteOffset, bytes.length), find, used: needleBytes, blocks: [] };
      this.pieces.push(piece);
    }
    names.copy(piece.bytes, piece.used);
    piece.blocks.push({ no, series, from: piece.used, end: piece.used + names.length });
    piece.used += names.length;
    this.known.add(no);
    this.newest = Math.max(this.newest, no);
  }
}

/** Adds the hits of a piece, at whose beginning stands what is looked for. */
function searchPiece(piece: Piece, length: number, only: ReadonlySet<number> | null, most: number, hits: NameHit[]): void {
  const { bytes, used, blocks } = piece;
  let at = needleBytes;
  // the next block that may hold a hit, and its lines up to an address
  let b = 0;
  let lines = 0;
  let counted = 0;
  while (at < used && hits.length < most) {
    const place = piece.find(at, used, 0, length);
    if (place === used) return;
    for (; b < blocks.length && blocks[b]!.end <= place; b++) lines = counted = 0;
    const block = blocks[b];
    if (!block) return;
    if (block.from > place || (only && !only.has(block.series))) {
      at = block.from > place ? block.from : block.end;
      continue;
    }
    counted ||= block.from;
    for (let line = bytes.indexOf(lineEnd, counted); line < place; line = bytes.indexOf(lineEnd, counted)) {
      counted = line + 1;
      lines++;
    }
    const end = bytes.indexOf(lineEnd, place);
    hits.push({ block: block.no, entry: lines, series: block.series, folded: bytes.toString('utf8', counted, end) });
    at = end + 1;
  }
}
