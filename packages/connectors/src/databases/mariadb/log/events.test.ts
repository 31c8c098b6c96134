import { crc32 } from 'node:zlib';
import type { DatabaseCommit } from '@lithodex/kinds';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { CommitReader } from './commits';
import { eventType, LogReader, magic, type LogEvent } from './events';

/** Writes events as a server does, each where the one before ended. */
class LogWriter {
  readonly parts: Buffer[] = [magic];
  position = magic.length;

  event(type: number, body: Buffer, at = 100, flags = 0): this {
    const data = Buffer.alloc(19 + body.length + 4);
    data.writeUInt32LE(at, 0);
    data[4] = type;
    data.writeUInt32LE(7, 5);
    data.writeUInt32LE(data.length, 9);
    this.position += data.length;
    data.writeUInt32LE(this.position, 13);
    data.writeUInt16LE(flags, 17);
    body.copy(data, 19);
    data.writeUInt32LE(crc32(data.subarray(0, -4)), data.length - 4);
    this.parts.push(data);
    return this;
  }

  format(): this {
    const body = Buffer.alloc(60);
    body[body.length - 1] = 1;
    return this.event(eventType.format, body);
  }

  commit(number: number, at: number, statement: string): this {
    const gtid = Buffer.alloc(19);
    gtid.writeBigUInt64LE(BigInt(number), 0);
    this.event(eventType.gtid, gtid, at);
    const name = 'berths';
    const query = Buffer.concat([Buffer.alloc(13), Buffer.from(`${name}\0${statement}`)]);
    query[8] = name.length;
    return this.event(eventType.query, query, at).event(eventType.xid, Buffer.alloc(8), at);
  }

  get bytes(): Buffer {
    return Buffer.concat(this.parts);
  }
}

function readAll(bytes: Buffer, step: number, from = magic.length): { events: LogEvent[]; reader: LogReader } {
  const reader = new LogReader('changes.000001', from);
  const events: LogEvent[] = [];
  for (let at = 0; at < bytes.length; at += step) events.push(...reader.take(bytes.subarray(at, at + step)));
  return { events, reader };
}

const log = () => new LogWriter().format().commit(1, 200, 'CREATE TABLE a (b int)').commit(2, 300, 'DROP TABLE a');

describe('a log taken apart', () => {
  it('gives the same events however it arrives in pieces', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 400 }), (step) => {
        const { bytes, position } = log();
        const { events, reader } = readAll(bytes, step);
        expect(Buffer.concat([magic, ...events.map((e) => e.data)])).toEqual(bytes);
        expect([reader.next, reader.cut, reader.checked]).toEqual([position, false, true]);
      }),
    );
  });

  it('refuses every change of a byte, and says of what ends early that it is cut', () => {
    const { bytes } = log();
    fc.assert(
      fc.property(fc.nat(bytes.length - 1), fc.integer({ min: 1, max: 255 }), (at, change) => {
        const damaged = Buffer.from(bytes);
        damaged[at]! ^= change;
        let refused: boolean;
        try {
          refused = readAll(damaged, 64).reader.cut;
        } catch (error) {
          refused = (error as { code?: string }).code === 'LOG_DAMAGED';
        }
        // a file that is written to says so in its first event
        expect(refused || (at === magic.length + 17 && change === 1)).toBe(true);
      }),
      { numRuns: 400 },
    );
    fc.assert(
      fc.property(fc.integer({ min: 5, max: bytes.length - 1 }), (end) => {
        const { events, reader } = readAll(bytes.subarray(0, end), 50);
        expect(reader.cut || magic.length + events.reduce((n, e) => n + e.data.length, 0) === end).toBe(true);
      }),
    );
  });

  it('refuses a log that lacks an event', () => {
    const { parts } = log();
    for (let i = 2; i < parts.length - 1; i++)
      expect(() => readAll(Buffer.concat(parts.filter((_, n) => n !== i)), 100)).toThrow(/an event is missing/);
  });

  it('tells commits with their moments and places', () => {
    const found: DatabaseCommit[] = [];
    const commits = new CommitReader('changes.000001', (c) => found.push(c));
    const { events, reader } = readAll(log().bytes, 1000);
    for (const event of events) commits.take(event, reader.checked);
    commits.close();
    expect(found).toMatchObject([
      { at: 200_000, id: '0-7-1', statement: 'CREATE TABLE a (b int)', tables: [{ database: 'berths', change: 'statement' }] },
      { at: 300_000, id: '0-7-2', statement: 'DROP TABLE a' },
    ]);
    expect(found[1]!.position).toBeGreaterThan(found[0]!.position);
  });
});
