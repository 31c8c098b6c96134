import type { Duplex } from 'node:stream';
import { ByteSource } from './byte-source';
import { systemCode } from '@lithodex/engine';
import type { Stretch } from '@lithodex/volumes';
import type { Exported, Writable } from './exported';
import * as nbd from './nbd-protocol';
import { OverlayFull } from './overlay';

export interface Session {
  /** By their names. */
  readonly exports: ReadonlyMap<string, Exported | Writable>;
  /** Bytes that were sent. */
  readonly onRead: (bytes: number) => void;
}

/** Requests that are answered at the same time: each holds what it reads. */
const mostAtOnce = 16;

/** What is agreed on over a stream before it is encrypted: nothing but that it will be. Gives whether the other side asked for it. */
export async function agreeOnTls(stream: Duplex): Promise<boolean> {
  const source = new ByteSource(stream);
  greet(stream);
  if (!(await source.next(4))) return false;
  for (;;) {
    const asked = await nextOption(source);
    if (!asked) return false;
    if (asked.type === nbd.option.startTls) {
      source.release();
      stream.write(nbd.optionReply(asked.type, nbd.reply.ack));
      return true;
    }
    // the oldest way to ask can't be refused but by hanging up
    if (asked.type === nbd.option.exportName || asked.type === nbd.option.abort) return false;
    stream.write(nbd.optionReply(asked.type, nbd.reply.tlsNeeded));
  }
}

function greet(stream: Duplex): void {
  const hello = Buffer.alloc(18);
  hello.writeBigUInt64BE(nbd.magic.server, 0);
  hello.writeBigUInt64BE(nbd.magic.option, 8);
  hello.writeUInt16BE(nbd.serverFlags, 16);
  stream.write(hello);
}

async function nextOption(source: ByteSource): Promise<{ type: number; data: Buffer } | undefined> {
  const head = await source.next(16);
  if (head?.readBigUInt64BE(0) !== nbd.magic.option) return undefined;
  const length = head.readUInt32BE(12);
  if (length > nbd.largestOption) return undefined;
  const data = length ? await source.next(length) : Buffer.alloc(0);
  return data && { type: head.readUInt32BE(8), data: Buffer.from(data) };
}

/** Serves one export over a stream that only who knows the key can have: options, then requests until the other side leaves. */
export class NbdConnection {
  private readonly source: ByteSource;
  private structured = false;
  private allocation = false;
  private open = 0;
  /** Bytes that were sent to be written and are not yet. */
  private arriving = 0;
  private exported: Exported | Writable | undefined;
  private wake: () => void = () => undefined;

  constructor(
    private readonly stream: Duplex,
    private readonly session: Session,
  ) {
    this.source = new ByteSource(stream);
    const wake = () => this.wake();
    stream.on('drain', wake).on('close', wake);
  }

  async serve(): Promise<void> {
    try {
      if (await this.options()) await this.requests();
    } finally {
      this.stream.end();
    }
  }

  /** Whether an export was agreed on. */
  private async options(): Promise<boolean> {
    for (;;) {
      const asked = await nextOption(this.source);
      if (!asked) return false;
      const { type, data } = asked;
      const answer = (kind: number, more?: Buffer<ArrayBuffer>) => this.stream.write(nbd.optionReply(type, kind, more));
      switch (type) {
        case nbd.option.abort:
          answer(nbd.reply.ack);
          return false;
        case nbd.option.list: {
          for (const name of [...this.session.exports.keys()].map((n) => Buffer.from(n))) {
            const length = Buffer.alloc(4);
            length.writeUInt32BE(name.length, 0);
            answer(nbd.reply.server, Buffer.concat([length, name]));
          }
          answer(nbd.reply.ack);
          break;
        }
        case nbd.option.structuredReply:
          this.structured = true;
          answer(nbd.reply.ack);
          break;
        case nbd.option.listMeta:
        case nbd.option.setMeta:
          this.metaContexts(type, data);
          break;
        case nbd.option.info:
        case nbd.option.go: {
          const length = data.length >= 4 ? data.readUInt32BE(0) : -1;
          const name = data.subarray(4, 4 + length).toString();
          const exported = length < 0 ? undefined : this.session.exports.get(name);
          if (!exported) {
            answer(length < 0 ? nbd.reply.invalid : nbd.reply.unknown);
            break;
          }
          answer(nbd.reply.info, exportInfo(exported));
          answer(nbd.reply.ack);
          if (type === nbd.option.info) break;
          this.exported = exported;
          return true;
        }
        default:
          answer(nbd.reply.unsupported);
      }
    }
  }

  private metaContexts(type: number, data: Buffer): void {
    const wanted = contextsIn(data);
    if (!wanted) {
      this.stream.write(nbd.optionReply(type, nbd.reply.invalid));
      return;
    }
    const all = type === nbd.option.listMeta && wanted.length === 0;
    const fits = all || wanted.some((query) => query === nbd.allocation || (type === nbd.option.listMeta && query === 'base:'));
    if (fits) {
      const id = Buffer.alloc(4);
      id.writeUInt32BE(nbd.allocationId, 0);
      this.stream.write(nbd.optionReply(type, nbd.reply.metaContext, Buffer.concat([id, Buffer.from(nbd.allocation)])));
    }
    if (type === nbd.option.setMeta) this.allocation = fits;
    this.stream.write(nbd.optionReply(type, nbd.reply.ack));
  }

  private async requests(): Promise<void> {
    for (;;) {
      const data = await this.source.next(nbd.requestBytes);
      const request = data && nbd.readRequest(data);
      if (!request || request.type === nbd.command.disconnect) return;
      const written = request.type === nbd.command.write ? await this.writtenBy(request) : undefined;
      if (request.type === nbd.command.write && !written) return;
      await this.until(() => this.open < mostAtOnce && !this.stream.writableNeedDrain);
      if (this.stream.destroyed) return;
      this.open++;
      void this.answer(request, written).finally(() => {
        this.open--;
        this.arriving -= written?.length ?? 0;
        this.wake();
      });
    }
  }

  private async until(may: () => boolean): Promise<void> {
    while (!may() && !this.stream.destroyed)
      await new Promise<void>((resume) => {
        this.wake = resume;
      });
  }

  /** The bytes that come along to be written; those that can't be are passed over, which is none of them then. */
  private async writtenBy({ offset, length }: nbd.Request): Promise<Buffer | undefined> {
    if (!this.exported || !('write' in this.exported) || length > nbd.largestRead || offset + length > this.exported.size) {
      for (let left = length; left > 0; left -= Math.min(left, 65_536))
        if (!(await this.source.next(Math.min(left, 65_536)))) return undefined;
      return Buffer.alloc(0);
    }
    await this.until(() => this.arriving === 0 || this.arriving + length <= nbd.largestRead);
    this.arriving += length;
    const data = await this.source.next(length);
    return data && Buffer.from(data);
  }

  private async answer(request: nbd.Request, written: Buffer | undefined): Promise<void> {
    const { type, cookie, offset, length, one, force } = request;
    const exported = this.exported!;
    const fits = Number.isFinite(offset) && offset + length <= exported.size;
    try {
      if (type === nbd.command.flush) {
        if ('write' in exported) await exported.flush();
        this.fine(cookie);
      } else if (type === nbd.command.write && 'write' in exported) {
        if (!fits || length === 0) this.refuse(cookie, nbd.failure.invalid);
        else if (length > nbd.largestRead) this.refuse(cookie, nbd.failure.tooMuch);
        else {
          await exported.write(offset, written!);
          if (force) await exported.flush();
          this.fine(cookie);
        }
      } else if (type === nbd.command.read) {
        if (!fits || length === 0) this.refuse(cookie, nbd.failure.invalid);
        else if (length > nbd.largestRead) this.refuse(cookie, nbd.failure.tooMuch);
        else this.data(cookie, offset, await exported.read(offset, length));
      } else if (type === nbd.command.blockStatus && this.allocation) {
        if (!fits || length === 0) this.refuse(cookie, nbd.failure.invalid);
        else this.status(cookie, joined(exported.stretches(offset, length)).slice(0, one ? 1 : undefined));
      } else
        this.refuse(
          cookie,
          [nbd.command.write, nbd.command.trim, nbd.command.writeZeroes].includes(type as 1)
            ? nbd.failure.notPermitted
            : nbd.failure.invalid,
        );
    } catch (error) {
      const noRoom = error instanceof OverlayFull || systemCode(error) === 'ENOSPC';
      this.refuse(cookie, noRoom ? nbd.failure.noRoom : nbd.failure.io);
    }
  }

  private write(...parts: Buffer[]): void {
    if (this.stream.destroyed) return;
    this.stream.cork();
    for (const part of parts) this.stream.write(part);
    this.stream.uncork();
  }

  private fine(cookie: Buffer): void {
    this.write(this.structured ? nbd.chunkHead(cookie, nbd.chunk.none, 0) : nbd.simpleReply(cookie, 0));
  }

  private refuse(cookie: Buffer, error: number): void {
    if (!this.structured) {
      this.write(nbd.simpleReply(cookie, error));
      return;
    }
    const body = Buffer.alloc(6);
    body.writeUInt32BE(error, 0);
    this.write(nbd.chunkHead(cookie, nbd.chunk.error, body.length), body);
  }

  private data(cookie: Buffer, offset: number, data: Buffer): void {
    this.session.onRead(data.length);
    if (!this.structured) {
      this.write(nbd.simpleReply(cookie, 0), data);
      return;
    }
    const at = Buffer.alloc(8);
    at.writeBigUInt64BE(BigInt(offset), 0);
    this.write(nbd.chunkHead(cookie, nbd.chunk.offsetData, at.length + data.length), at, data);
  }

  private status(cookie: Buffer, stretches: readonly Stretch[]): void {
    const body = Buffer.alloc(4 + stretches.length * 8);
    body.writeUInt32BE(nbd.allocationId, 0);
    for (const [i, stretch] of stretches.entries()) {
      body.writeUInt32BE(stretch.length, 4 + i * 8);
      body.writeUInt32BE(stretch.hole ? nbd.stateHole : 0, 8 + i * 8);
    }
    this.write(nbd.chunkHead(cookie, nbd.chunk.blockStatus, body.length), body);
  }
}

function exportInfo(exported: Exported | Writable): Buffer<ArrayBuffer> {
  const info = Buffer.alloc(12);
  info.writeUInt16BE(nbd.infoExport, 0);
  info.writeBigUInt64BE(BigInt(exported.size), 2);
  info.writeUInt16BE('write' in exported ? nbd.writableFlags : nbd.readOnlyFlags, 10);
  return info;
}

/** Stretches of which no two alike follow each other. */
function joined(stretches: readonly Stretch[]): Stretch[] {
  const out: { length: number; hole: boolean }[] = [];
  for (const { length, hole } of stretches) {
    const last = out.at(-1);
    if (last?.hole === hole) last.length += length;
    else out.push({ length, hole });
  }
  return out;
}

/** Names of contexts that are asked for; undefined for what can't be read. */
function contextsIn(data: Buffer): string[] | undefined {
  try {
    const nameLength = data.readUInt32BE(0);
    const count = data.readUInt32BE(4 + nameLength);
    const found: string[] = [];
    let at = 8 + nameLength;
    for (let n = 0; n < count; n++) {
      const length = data.readUInt32BE(at);
      if (at + 4 + length > data.length) return undefined;
      found.push(data.toString('utf8', at + 4, at + 4 + length));
      at += 4 + length;
    }
    return found;
  } catch {
    return undefined;
  }
}
