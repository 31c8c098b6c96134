import { crc32 } from 'node:zlib';
import { SourceError } from '../../../source-error';

/** Types of events that are looked at. https://mariadb.com/kb/en/replication-protocol/ */
export const eventType = {
  query: 2,
  stop: 3,
  rotate: 4,
  format: 15,
  xid: 16,
  tableMap: 19,
  annotate: 160,
  checkpoint: 161,
  gtid: 162,
  gtidList: 163,
  startEncryption: 164,
  queryCompressed: 165,
} as const;

/** What every log file begins with. */
export const magic = Buffer.from([0xfe, 0x62, 0x69, 0x6e]);
export const headerBytes = 19;
const checksumBytes = 4;
/** No event is larger: as much as the protocol can carry. */
const mostEvent = 1 << 30;
const artificial = 0x20;

/** One event of a log, with its header. */
export interface LogEvent {
  readonly data: Buffer;
  readonly type: number;
  /** When it was begun, seconds since the epoch. */
  readonly at: number;
  readonly server: number;
  /** Where it ends in its file on the server; 0 for what was made up for a reader. */
  readonly end: number;
  readonly madeUp: boolean;
}

/** What an event says, without header and checksum. */
export function bodyOf(event: LogEvent, checked: boolean): Buffer {
  return event.data.subarray(headerBytes, event.data.length - (checked ? checksumBytes : 0));
}

/** A file that is written to says so in its first event, whose checksum is that of a closed one. */
function asClosed(data: Buffer): Buffer {
  const copy = Buffer.from(data.subarray(0, data.length - checksumBytes));
  copy[17] = copy[17]! & ~1;
  return copy;
}

const damaged = (what: string) => new SourceError('LOG_DAMAGED', what);

/**
 * Takes a piece of a log apart while it is read: its magic number, then events. Checks the size of every event and its checksum, and that each begins where the one before ended. Throws
 * SourceError for what is not as it should be; `cut` tells whether the piece ends within an event.
 */
export class LogReader {
  private rest: Buffer = Buffer.alloc(0);
  private begun = false;
  private position: number;
  private sums = true;

  /** `from`: where the first event of the piece stands on the server, bytes. */
  constructor(
    private readonly name: string,
    from: number,
  ) {
    this.position = from;
  }

  /** Where the next event has to begin. */
  get next(): number {
    return this.position;
  }

  /** Events carry checksums. */
  get checked(): boolean {
    return this.sums;
  }

  get cut(): boolean {
    return this.rest.length > 0;
  }

  /** The events that are whole with these bytes. */
  *take(data: Buffer): Generator<LogEvent> {
    this.rest = this.rest.length ? Buffer.concat([this.rest, data]) : data;
    if (!this.begun) {
      if (this.rest.length < magic.length) return;
      if (!this.rest.subarray(0, magic.length).equals(magic)) throw damaged(`${this.name} does not begin as a log`);
      this.rest = this.rest.subarray(magic.length);
      this.begun = true;
    }
    for (;;) {
      const { rest } = this;
      if (rest.length < headerBytes) break;
      const size = rest.readUInt32LE(9);
      if (size < headerBytes || size > mostEvent) throw damaged(`${this.name} has an event of an impossible size at ${this.position}`);
      if (rest.length < size) break;
      this.rest = rest.subarray(size);
      yield this.event(rest.subarray(0, size));
    }
    // what is left is part of a larger piece of memory
    this.rest = Buffer.from(this.rest);
  }

  private event(data: Buffer): LogEvent {
    const type = data[4]!;
    const end = data.readUInt32LE(13);
    const flags = data.readUInt16LE(17);
    if (type === eventType.format) this.sums = data.at(-1 - checksumBytes) === 1;
    if (type === eventType.startEncryption) throw damaged(`${this.name} is encrypted by the server`);
    // the first event has a checksum whether the others have one or not
    if (this.sums || type === eventType.format) {
      const sum = crc32(type === eventType.format ? asClosed(data) : data.subarray(0, data.length - checksumBytes));
      if (sum !== data.readUInt32LE(data.length - checksumBytes))
        throw damaged(`an event of ${this.name} at ${this.position} has a wrong checksum`);
    }
    // what a server sends before the first event that was asked for stands elsewhere in its file
    const madeUp = (flags & artificial) !== 0 || end === 0 || (type === eventType.format && this.position !== magic.length);
    if (!madeUp) {
      if (end !== (this.position + data.length) % 0x1_0000_0000)
        throw damaged(`an event is missing in ${this.name} between ${this.position} and ${end - data.length}`);
      this.position += data.length;
    }
    return { data, type, at: data.readUInt32LE(0), server: data.readUInt32LE(5), end: this.position, madeUp };
  }
}
