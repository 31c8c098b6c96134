import fs from 'node:fs';
import path from 'node:path';
import type { Stretch } from '@lithodex/volumes';
import type { Exported, Writable } from './exported';

/** What is written is kept in blocks of this size, in bytes. */
export const overlayBlock = 4096;

/** The room that all overlays of a machine share. */
export class OverlayRoom {
  /** Bytes in use. */
  used = 0;

  constructor(
    /** Bytes. */
    readonly most: number,
  ) {}

  get full(): boolean {
    return this.used + overlayBlock > this.most;
  }
}

/** There is no room for what is written. */
export class OverlayFull extends Error {}

/** Names the time since the host started: what the system held for later is lost with it. */
const bootOf = () => fs.readFileSync('/proc/sys/kernel/random/boot_id', 'utf8').trim();

/**
 * A disk that can be written to, over one that can't. What was written lies in a sparse file, beside a map of its blocks. A second map holds what had reached the disk of this
 * host when it was last told to flush: after a loss of power that one counts, as nothing else was promised; after the end of a process the first one does.
 */
export class Overlay implements Writable {
  readonly size: number;
  private readonly data: number;
  private readonly live: number;
  private readonly flushed: number;
  private readonly map: Buffer;
  /** Bytes of the map that are not among what was flushed. */
  private news = { from: 0, to: 0 };
  private turn: Promise<unknown> = Promise.resolve();

  /** `folder` is made where it is not there; what is in it already is gone on with. */
  constructor(
    folder: string,
    private readonly below: Exported,
    private readonly room: OverlayRoom,
  ) {
    this.size = below.size;
    fs.mkdirSync(folder, { recursive: true, mode: 0o700 });
    const open = (name: string) => fs.openSync(path.join(folder, name), fs.constants.O_RDWR | fs.constants.O_CREAT, 0o600);
    this.data = open('written.raw');
    fs.ftruncateSync(this.data, this.size);
    this.map = Buffer.alloc(Math.ceil(Math.ceil(this.size / overlayBlock) / 8));
    this.live = open('written.map');
    const bootFile = path.join(folder, 'boot');
    const boot = bootOf();
    const lasts = fs.existsSync(bootFile) && fs.readFileSync(bootFile, 'utf8') === boot;
    this.flushed = open('flushed.map');
    fs.readSync(lasts ? this.live : this.flushed, this.map, 0, this.map.length, 0);
    if (!lasts) {
      fs.writeSync(this.live, this.map, 0, this.map.length, 0);
      fs.writeFileSync(bootFile, boot);
    }
    this.news = { from: 0, to: this.map.length };
    this.room.used += this.count() * overlayBlock;
  }

  private count(): number {
    let blocks = 0;
    for (let byte of this.map) for (; byte; byte &= byte - 1) blocks++;
    return blocks;
  }

  private has(block: number): boolean {
    return (this.map[block >>> 3]! & (1 << (block & 7))) !== 0;
  }

  /** Runs of bytes within a stretch, and whether they were written. */
  private *runs(offset: number, length: number): Generator<{ readonly from: number; readonly to: number; readonly own: boolean }> {
    const end = offset + length;
    for (let from = offset; from < end;) {
      let block = Math.floor(from / overlayBlock);
      const own = this.has(block);
      do block++;
      while (block * overlayBlock < end && this.has(block) === own);
      const to = Math.min(end, block * overlayBlock);
      yield { from, to, own };
      from = to;
    }
  }

  async read(offset: number, length: number): Promise<Buffer> {
    const parts: Buffer[] = [];
    for (const { from, to, own } of [...this.runs(offset, length)]) {
      if (own) {
        const part = Buffer.allocUnsafe(to - from);
        fs.readSync(this.data, part, 0, part.length, from);
        parts.push(part);
      } else parts.push(await this.below.read(from, to - from));
    }
    return parts.length === 1 ? parts[0]! : Buffer.concat(parts);
  }

  stretches(offset: number, length: number): Stretch[] {
    const found: Stretch[] = [];
    for (const { from, to, own } of this.runs(offset, length))
      if (own) found.push({ length: to - from, hole: false });
      else found.push(...this.below.stretches(from, to - from));
    return found;
  }

  /** Throws OverlayFull, and then nothing was written. */
  write(offset: number, data: Buffer): Promise<void> {
    const done = this.turn.then(() => this.put(offset, data));
    this.turn = done.catch(() => undefined);
    return done;
  }

  private async put(offset: number, data: Buffer): Promise<void> {
    const first = Math.floor(offset / overlayBlock);
    const last = Math.floor((offset + data.length - 1) / overlayBlock);
    const fresh: number[] = [];
    for (let block = first; block <= last; block++) if (!this.has(block)) fresh.push(block);
    if (this.room.used + fresh.length * overlayBlock > this.room.most) throw new OverlayFull();
    for (const block of fresh.length ? new Set([first, last]) : []) {
      const from = block * overlayBlock;
      const to = Math.min(this.size, from + overlayBlock);
      // a block that is written in part takes the rest from below
      if (!this.has(block) && (offset > from || offset + data.length < to)) {
        const under = await this.below.read(from, to - from);
        fs.writeSync(this.data, under, 0, under.length, from);
      }
    }
    fs.writeSync(this.data, data, 0, data.length, offset);
    if (!fresh.length) return;
    for (const block of fresh) this.map[block >>> 3]! |= 1 << (block & 7);
    const from = fresh[0]! >>> 3;
    const to = (fresh.at(-1)! >>> 3) + 1;
    fs.writeSync(this.live, this.map, from, to - from, from);
    const { news } = this;
    this.news = news.from === news.to ? { from, to } : { from: Math.min(from, news.from), to: Math.max(to, news.to) };
    this.room.used += fresh.length * overlayBlock;
  }

  /** What was written until now outlasts a loss of power. */
  flush(): Promise<void> {
    const done = this.turn.then(() => {
      fs.fdatasyncSync(this.data);
      const { from, to } = this.news;
      if (from === to) return;
      // blocks only ever come to the map, and what they hold is safe: it may break off anywhere
      fs.writeSync(this.flushed, this.map, from, to - from, from);
      fs.fdatasyncSync(this.flushed);
      this.news = { from: 0, to: 0 };
    });
    this.turn = done.catch(() => undefined);
    return done;
  }

  close(): void {
    fs.closeSync(this.data);
    fs.closeSync(this.live);
    fs.closeSync(this.flushed);
  }
}
