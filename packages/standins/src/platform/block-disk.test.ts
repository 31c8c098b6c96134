import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { BlockDisk, blockBytes } from './block-disk';

let folder: string;
beforeAll(() => void (folder = fs.mkdtempSync(path.join(os.tmpdir(), 'block-disk-'))));
afterAll(() => fs.rmSync(folder, { recursive: true }));

const size = 6 * blockBytes - 1000;
const step = fc.oneof(
  fc.record({
    act: fc.constant('write' as const),
    at: fc.nat(size - 1),
    length: fc.integer({ min: 1, max: 2 * blockBytes }),
    byte: fc.integer({ min: 1, max: 255 }),
  }),
  fc.record({ act: fc.constant('snapshot' as const) }),
  fc.record({ act: fc.constant('drop' as const), which: fc.nat(5) }),
);

describe('a disk with snapshots', () => {
  it('keeps what each snapshot saw, and names every block that differs between two of them', () => {
    let number = 0;
    fc.assert(
      fc.property(fc.array(step, { maxLength: 25 }), (steps) => {
        const disk = BlockDisk.create(path.join(folder, `${number++}.raw`), size);
        const live = Buffer.alloc(size);
        const seen = new Map<string, { content: Buffer; changeId: string }>();
        const everSeen: { content: Buffer; changeId: string }[] = [];
        for (const [i, s] of steps.entries()) {
          if (s.act === 'write') {
            const data = Buffer.alloc(Math.min(s.length, size - s.at), s.byte);
            disk.write(s.at, data);
            data.copy(live, s.at);
          } else if (s.act === 'snapshot') {
            const now = { content: Buffer.from(live), changeId: disk.takeSnapshot(`s${i}`) };
            seen.set(`s${i}`, now);
            everSeen.push(now);
          } else {
            const id = [...seen.keys()][s.which];
            if (id === undefined) continue;
            disk.dropSnapshot(id);
            seen.delete(id);
          }
        }
        expect(disk.bytes(0, size).equals(live)).toBe(true);
        for (const [id, { content }] of seen) {
          expect(disk.bytes(0, size, id).equals(content)).toBe(true);
          const allocated = Buffer.alloc(size);
          for (const [offset, length] of disk.allocated(id)) content.copy(allocated, offset, offset, offset + length);
          expect(allocated.equals(content)).toBe(true);
          for (const earlier of everSeen.slice(
            0,
            everSeen.findIndex((e) => e.content === content),
          )) {
            const patched = Buffer.from(earlier.content);
            for (const [offset, length] of disk.changed(earlier.changeId, id)) content.copy(patched, offset, offset, offset + length);
            expect(patched.equals(content)).toBe(true);
          }
        }
        disk.close();
      }),
      { numRuns: 60 },
    );
  });

  it('says which blocks were written and no others', () => {
    const disk = BlockDisk.create(path.join(folder, 'exact.raw'), size);
    disk.write(10, Buffer.from('a'));
    const id = disk.takeSnapshot('one');
    disk.write(3 * blockBytes + 5, Buffer.alloc(blockBytes, 1));
    disk.takeSnapshot('two');
    disk.write(0, Buffer.from('later'));
    expect(disk.changed(id, 'two')).toEqual([[3 * blockBytes, 2 * blockBytes]]);
    expect(disk.allocated('one')).toEqual([[0, blockBytes]]);
    disk.forgetChanges();
    expect(() => disk.changed(id, 'two')).toThrow('not recorded');
    expect(() => disk.bytes(size - 1, 2)).toThrow('outside');
    disk.close();
  });
});
