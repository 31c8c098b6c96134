import net from 'node:net';
import tls from 'node:tls';
import type { Range } from './block-disk';

/** A block device in the network, and what opens it. */
export interface NetworkDisk {
  readonly host: string;
  readonly port: number;
  readonly name: string;
  readonly user: string;
  /** Hexadecimal. */
  readonly key: string;
}

const magicOption = 0x49484156454f5054n;
const option = { go: 7, structuredReply: 8, setMeta: 10, startTls: 5 };
const command = { read: 0, write: 1, disconnect: 2, flush: 3, blockStatus: 7 };
const chunk = { offsetData: 1, blockStatus: 5, error: 0x8001 };
const context = 'base:allocation';
const againMs = 300;
const helloMs = 10_000;

interface Waiting {
  readonly request: Buffer;
  readonly parts: Buffer[];
  readonly resolve: (data: Buffer) => void;
  readonly reject: (error: Error) => void;
}

class Reader {
  private data = Buffer.alloc(0);
  private wake: () => void = () => undefined;
  private ended = false;
  private readonly take = (piece: Buffer) => {
    this.data = Buffer.concat([this.data, piece]);
    this.wake();
  };

  constructor(private readonly stream: net.Socket) {
    stream.on('data', this.take).on('close', () => {
      this.ended = true;
      this.wake();
    });
  }

  leave(): void {
    this.stream.off('data', this.take).pause();
  }

  async next(bytes: number): Promise<Buffer> {
    while (this.data.length < bytes) {
      if (this.ended) throw new Error('the line broke');
      await new Promise<void>((resume) => {
        this.wake = resume;
      });
    }
    const piece = this.data.subarray(0, bytes);
    this.data = this.data.subarray(bytes);
    return piece;
  }
}

function optionOf(type: number, data: Buffer): Buffer {
  const head = Buffer.alloc(16);
  head.writeBigUInt64BE(magicOption, 0);
  head.writeUInt32BE(type, 8);
  head.writeUInt32BE(data.length, 12);
  return Buffer.concat([head, data]);
}

function withLength(text: string): Buffer {
  const length = Buffer.alloc(4);
  length.writeUInt32BE(Buffer.byteLength(text), 0);
  return Buffer.concat([length, Buffer.from(text)]);
}

/** A host's side of a block device in the network: asks again over a new line when one breaks, for as long as it is open. */
export class NbdClient {
  private readonly waiting = new Map<bigint, Waiting>();
  private line: net.Socket | undefined;
  private cookie = 0n;
  private closed = false;

  constructor(private readonly disk: NetworkDisk) {
    void this.keepLine();
  }

  read(offset: number, length: number): Promise<Buffer> {
    return this.ask(command.read, offset, length);
  }

  async write(offset: number, data: Uint8Array): Promise<void> {
    await this.ask(command.write, offset, data.length, data);
  }

  async flush(): Promise<void> {
    await this.ask(command.flush, 0, 0);
  }

  /** Ranges that hold something. */
  async data(size: number): Promise<Range[]> {
    const ranges: Range[] = [];
    for (let at = 0; at < size;) {
      const status = await this.ask(command.blockStatus, at, Math.min(size - at, 1 << 30));
      for (let i = 4; i < status.length; i += 8) {
        const length = Math.min(size - at, status.readUInt32BE(i));
        if (!(status.readUInt32BE(i + 4) & 1)) ranges.push([at, length]);
        at += length;
      }
    }
    return ranges;
  }

  close(): void {
    this.closed = true;
    this.line?.destroy();
    for (const { reject } of this.waiting.values()) reject(new Error('closed'));
    this.waiting.clear();
  }

  private ask(type: number, offset: number, length: number, data: Uint8Array = Buffer.alloc(0)): Promise<Buffer> {
    const cookie = this.cookie++;
    const head = Buffer.alloc(28);
    head.writeUInt32BE(0x25609513, 0);
    head.writeUInt16BE(type, 6);
    head.writeBigUInt64BE(cookie, 8);
    head.writeBigUInt64BE(BigInt(offset), 16);
    head.writeUInt32BE(length, 24);
    const request = Buffer.concat([head, data]);
    return new Promise((resolve, reject) => {
      if (this.closed) {
        reject(new Error('closed'));
        return;
      }
      this.waiting.set(cookie, { request, parts: [], resolve, reject });
      this.line?.write(request);
    });
  }

  private async keepLine(): Promise<void> {
    while (!this.closed) {
      await this.serve().catch(() => undefined);
      this.line?.destroy();
      this.line = undefined;
      if (!this.closed) await new Promise((resume) => setTimeout(resume, againMs));
    }
  }

  private async serve(): Promise<void> {
    const { host, port, name, user, key } = this.disk;
    const plain = net.connect(port, host);
    plain.on('error', () => plain.destroy());
    plain.setTimeout(helloMs, () => plain.destroy());
    this.line = undefined;
    const hello = new Reader(plain);
    await hello.next(18);
    plain.write(Buffer.concat([Buffer.from([0, 0, 0, 3]), optionOf(option.startTls, Buffer.alloc(0))]));
    if ((await hello.next(20)).readUInt32BE(12) !== 1) throw new Error('it does not encrypt');
    hello.leave();
    const secure = tls.connect({
      socket: plain,
      minVersion: 'TLSv1.3',
      ciphers: 'TLS_AES_128_GCM_SHA256',
      pskCallback: () => ({ identity: user, psk: Buffer.from(key, 'hex') }),
      checkServerIdentity: () => undefined,
    });
    secure.on('error', () => secure.destroy());
    const reader = new Reader(secure);
    const meta = Buffer.concat([withLength(name), Buffer.from([0, 0, 0, 1]), withLength(context)]);
    for (const asked of [
      optionOf(option.structuredReply, Buffer.alloc(0)),
      optionOf(option.setMeta, meta),
      optionOf(option.go, Buffer.concat([withLength(name), Buffer.from([0, 0])])),
    ]) {
      secure.write(asked);
      await this.acknowledged(reader);
    }
    plain.setTimeout(0);
    this.line = secure;
    for (const { request, parts } of this.waiting.values()) {
      parts.length = 0;
      secure.write(request);
    }
    for (;;) await this.answer(reader);
  }

  private async acknowledged(reader: Reader): Promise<void> {
    for (;;) {
      const head = await reader.next(20);
      await reader.next(head.readUInt32BE(16));
      const type = head.readUInt32BE(12);
      if (type === 1) return;
      if (type & 0x8000_0000) throw new Error('it refuses');
    }
  }

  private async answer(reader: Reader): Promise<void> {
    const head = await reader.next(20);
    if (head.readUInt32BE(0) !== 0x668e33ef) throw new Error('no answer of this protocol');
    const last = (head.readUInt16BE(4) & 1) !== 0;
    const type = head.readUInt16BE(6);
    const cookie = head.readBigUInt64BE(8);
    const data = await reader.next(head.readUInt32BE(16));
    const waiting = this.waiting.get(cookie);
    if (!waiting) return;
    if (type === chunk.error) {
      this.waiting.delete(cookie);
      waiting.reject(new Error(`refused: ${data.readUInt32BE(0)}`));
      return;
    }
    if (type === chunk.offsetData) waiting.parts.push(Buffer.from(data.subarray(8)));
    if (type === chunk.blockStatus) waiting.parts.push(Buffer.from(data));
    if (!last) return;
    this.waiting.delete(cookie);
    waiting.resolve(Buffer.concat(waiting.parts));
  }
}
