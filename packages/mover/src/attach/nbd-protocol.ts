/** Numbers of the Network Block Device protocol (NetworkBlockDevice/nbd, doc/proto.md). All of it is big-endian. */
export const magic = {
  server: 0x4e42444d41474943n,
  option: 0x49484156454f5054n,
  optionReply: 0x3e889045565a9n,
  request: 0x25609513,
  simpleReply: 0x67446698,
  structuredReply: 0x668e33ef,
} as const;

export const option = {
  exportName: 1,
  abort: 2,
  list: 3,
  startTls: 5,
  info: 6,
  go: 7,
  structuredReply: 8,
  listMeta: 9,
  setMeta: 10,
} as const;
export const reply = {
  ack: 1,
  server: 2,
  info: 3,
  metaContext: 4,
  unsupported: 0x8000_0001,
  invalid: 0x8000_0003,
  tlsNeeded: 0x8000_0005,
  unknown: 0x8000_0006,
} as const;
export const command = { read: 0, write: 1, disconnect: 2, flush: 3, trim: 4, writeZeroes: 6, blockStatus: 7 } as const;
export const chunk = { none: 0, offsetData: 1, offsetHole: 2, blockStatus: 5, error: 0x8001 } as const;
export const failure = { notPermitted: 1, io: 5, invalid: 22, noRoom: 28, tooMuch: 75 } as const;

/** The export has flags, is read only, and may be read over several connections. */
export const readOnlyFlags = 1 | 2 | 256;
/** It has flags, flushes when it is asked to or with what is written, and may be used over several connections. */
export const writableFlags = 1 | 4 | 8 | 256;
/** Of a request: what it writes is flushed as well. */
export const forceFlag = 1;
export const serverFlags = 1 | 2;
export const clientFlags = { noZeroes: 2 } as const;
export const infoExport = 0;
/** Number under which `base:allocation` is known in a connection. */
export const allocationId = 1;
export const allocation = 'base:allocation';
export const stateHole = 1 | 2;

/** Bytes of a request at most. */
export const largestRead = 32 << 20;
export const largestOption = 65_536;

export function optionReply(asked: number, type: number, data = Buffer.alloc(0)): Buffer {
  const head = Buffer.alloc(20);
  head.writeBigUInt64BE(magic.optionReply, 0);
  head.writeUInt32BE(asked, 8);
  head.writeUInt32BE(type >>> 0, 12);
  head.writeUInt32BE(data.length, 16);
  return Buffer.concat([head, data]);
}

export interface Request {
  /** What is written is to be flushed as well. */
  readonly force: boolean;
  /** The answer is to hold one stretch only. */
  readonly one: boolean;
  readonly type: number;
  readonly cookie: Buffer;
  readonly offset: number;
  readonly length: number;
}

export const requestBytes = 28;

/** A request; undefined for what is none. */
export function readRequest(data: Buffer): Request | undefined {
  if (data.readUInt32BE(0) !== magic.request) return undefined;
  const offset = data.readBigUInt64BE(16);
  return {
    force: (data.readUInt16BE(4) & forceFlag) !== 0,
    one: (data.readUInt16BE(4) & 8) !== 0,
    type: data.readUInt16BE(6),
    cookie: Buffer.from(data.subarray(8, 16)),
    offset: offset > BigInt(Number.MAX_SAFE_INTEGER) ? Infinity : Number(offset),
    length: data.readUInt32BE(24),
  };
}

export function simpleReply(cookie: Buffer, error: number): Buffer {
  const head = Buffer.alloc(16);
  head.writeUInt32BE(magic.simpleReply, 0);
  head.writeUInt32BE(error, 4);
  cookie.copy(head, 8);
  return head;
}

/** The head of an answer in one chunk; `length`: bytes that follow it. */
export function chunkHead(cookie: Buffer, type: number, length: number): Buffer {
  const head = Buffer.alloc(20);
  head.writeUInt32BE(magic.structuredReply, 0);
  head.writeUInt16BE(1, 4);
  head.writeUInt16BE(type, 6);
  cookie.copy(head, 8);
  head.writeUInt32BE(length, 16);
  return head;
}
