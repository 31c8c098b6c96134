import type { RowSink } from './family';

const newline = 0x0a;
/** No piece is shorter, but for the last one. */
const leastPiece = 1 << 20;
/** Bytes from one row that may end a piece to the next: long beside the shortest piece, so that pieces soon end where they did before when rows before them have changed. */
const betweenEnds = 4 << 20;
/** What is looked at at the beginning and at the end of a row. */
const sampled = 12;

/** FNV-1a over the beginning and the end of a row: of so many bytes of rows one may end a piece, wherever it stands. */
function endsPiece(data: Buffer, from: number, to: number): boolean {
  let h = 0x811c9dc5;
  const first = Math.min(to, from + sampled);
  for (let i = from; i < first; i++) h = Math.imul(h ^ data[i]!, 0x01000193);
  for (let i = Math.max(first, to - sampled - 4); i < to; i++) h = Math.imul(h ^ data[i]!, 0x01000193);
  h ^= h >>> 15;
  h = Math.imul(h, 0x2c1b3c6d);
  return (h ^ (h >>> 12)) >>> 0 < ((to - from) / betweenEnds) * 0x1_0000_0000;
}

/** Passes on whole lines, a row each, in pieces that end where they did before also when rows before them have changed. `skipped`: bytes at the beginning of each line that are no part of the row. */
export async function passRows(sink: RowSink, lines: Buffer, skipped = 0): Promise<void> {
  let from = 0;
  let begin = Math.max(0, leastPiece - sink.open);
  // the first line that begins there: the one before may have begun in what is too short
  if (begin > 0) begin = begin < lines.length ? lines.indexOf(newline, begin - 1) + 1 || lines.length : lines.length;
  while (begin < lines.length) {
    const end = lines.indexOf(newline, begin);
    if (endsPiece(lines, begin + skipped, end)) {
      await sink.write(lines.subarray(from, end + 1));
      await sink.endPiece();
      from = end + 1;
      const next = from + leastPiece;
      begin = next < lines.length ? lines.indexOf(newline, next - 1) + 1 || lines.length : lines.length;
    } else begin = end + 1;
  }
  if (from < lines.length) await sink.write(lines.subarray(from));
}
