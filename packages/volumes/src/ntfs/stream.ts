import { dataRanges, readRuns, type Blocks, type Run } from '../blocks';
import { damaged } from '../errors';
import { openLznt1 } from './lznt1';
import { runsOfParts, type Attribute } from './record';

/** Content of a file of NTFS, or of one of its further streams. */
export class NtfsStream {
  private readonly runs: readonly Run[];
  private readonly first: Attribute;
  /** The unit of compression opened last. */
  private unit: { readonly number: number; readonly data: Buffer } | undefined;

  constructor(
    private readonly disk: Blocks,
    private readonly clusterSize: number,
    parts: readonly Attribute[],
  ) {
    const [first] = parts;
    if (first?.firstVcn !== 0) throw damaged('content of a file');
    this.first = first;
    this.runs = runsOfParts(parts, clusterSize);
  }

  /** Stretches that hold data; undefined where all of it does. */
  get ranges(): [number, number][] | undefined {
    const { resident, size, initialized, unit } = this.first;
    if (resident) return undefined;
    const bytes = unit * this.clusterSize;
    const written = (unit ? this.units(bytes) : this.runs).flatMap((run) => {
      const length = Math.min(run.length, initialized - run.offset);
      return length > 0 ? [{ ...run, length }] : [];
    });
    return dataRanges(written, size);
  }

  /** Units of compression that hold anything, as runs. */
  private units(bytes: number): Run[] {
    const units: Run[] = [];
    for (const run of this.runs) {
      const from = Math.floor(run.offset / bytes) * bytes;
      const to = Math.ceil((run.offset + run.length) / bytes) * bytes;
      const last = units.at(-1);
      const start = last ? Math.max(from, last.offset + last.length) : from;
      if (to > start) units.push({ offset: start, length: to - start, at: 0 });
    }
    return units;
  }

  async read(offset: number, length: number): Promise<Buffer> {
    const { resident, initialized, unit } = this.first;
    if (resident) return resident.subarray(offset, offset + length);
    const there = Math.max(0, Math.min(length, initialized - offset));
    const data = unit ? await this.packed(offset, there) : await readRuns(this.disk, this.runs, offset, there);
    return there === length ? data : Buffer.concat([data, Buffer.alloc(length - there)]);
  }

  private async packed(offset: number, length: number): Promise<Buffer> {
    const bytes = this.first.unit * this.clusterSize;
    const parts: Buffer[] = [];
    for (let at = offset; at < offset + length;) {
      const number = Math.floor(at / bytes);
      if (this.unit?.number !== number) this.unit = { number, data: await this.openUnit(number * bytes, bytes) };
      const end = Math.min(offset + length, (number + 1) * bytes);
      parts.push(this.unit.data.subarray(at - number * bytes, end - number * bytes));
      at = end;
    }
    return parts.length === 1 ? parts[0]! : Buffer.concat(parts);
  }

  /** A unit whose clusters are all there is stored as it is; one with fewer is packed; one with none is zeros. */
  private async openUnit(from: number, bytes: number): Promise<Buffer> {
    let there = 0;
    const parts: Buffer[] = [];
    for (const run of this.runs) {
      const start = Math.max(from, run.offset);
      const end = Math.min(from + bytes, run.offset + run.length);
      if (end <= start) continue;
      parts.push(await this.disk.read(run.at + start - run.offset, end - start));
      there += end - start;
    }
    if (there === bytes) return Buffer.concat(parts);
    return there === 0 ? Buffer.alloc(bytes) : openLznt1(Buffer.concat(parts), bytes);
  }
}
