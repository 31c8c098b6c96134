import { execFile } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { promisify } from 'node:util';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import type { Exported } from './exported';
import { NbdServer, nbdUser } from './nbd-server';
import { Overlay, overlayBlock, OverlayFull, OverlayRoom } from './overlay';

const run = promisify(execFile);
const size = 20 * overlayBlock + 512;
const under = randomBytes(size);
let base: string;
let number = 0;
beforeAll(() => void (base = temporaryFolder('overlay')));
afterAll(() => fs.rmSync(base, { recursive: true, force: true }));

const below: Exported = {
  size,
  read: (offset, length) => Promise.resolve(Buffer.from(under.subarray(offset, offset + length))),
  stretches: (_offset, length) => [{ length, hole: true }],
};
const fresh = () => `${base}/${number++}`;
const open = (folder: string, most = 1 << 30) => new Overlay(folder, below, new OverlayRoom(most));
/** What a loss of power leaves: a host that has started anew, and only what was flushed to be believed. */
const losePower = (folder: string) => fs.writeFileSync(`${folder}/boot`, 'an earlier start');

const write = fc.record({
  act: fc.constant('write' as const),
  at: fc.nat(size - 1),
  length: fc.integer({ min: 1, max: 3 * overlayBlock }),
  byte: fc.nat(255),
});
const step = fc.oneof(
  { weight: 5, arbitrary: write },
  fc.record({ act: fc.constantFrom('flush' as const, 'kill' as const, 'power' as const) }),
);

describe('what is written beside a point', () => {
  it('reads as written over what is below, after the end of its process too; after a loss of power no block is older than the last flush', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(step, { maxLength: 30 }), async (steps) => {
        const folder = fresh();
        let overlay = open(folder);
        const live = Buffer.from(under);
        let flushed = Buffer.from(under);
        for (const s of steps) {
          if (s.act === 'write') {
            const data = Buffer.alloc(Math.min(s.length, size - s.at), s.byte);
            await overlay.write(s.at, data);
            data.copy(live, s.at);
          } else if (s.act === 'flush') {
            await overlay.flush();
            flushed = Buffer.from(live);
          } else {
            overlay.close();
            if (s.act === 'power') losePower(folder);
            overlay = open(folder);
            if (s.act === 'power') {
              const now = await overlay.read(0, size);
              for (let at = 0; at < size; at += overlayBlock) {
                const block = now.subarray(at, at + overlayBlock);
                const either = block.equals(live.subarray(at, at + overlayBlock)) || block.equals(flushed.subarray(at, at + overlayBlock));
                expect(either, `the block at ${at} is neither as it was flushed nor as it was written`).toBe(true);
              }
              now.copy(live);
              flushed = Buffer.from(now);
            }
          }
          expect((await overlay.read(0, size)).equals(live)).toBe(true);
          const told = overlay.stretches(0, size);
          expect(told.reduce((sum, t) => sum + t.length, 0)).toBe(size);
        }
        overlay.close();
      }),
      { numRuns: 150 },
    );
  });

  it('is refused whole where there is no room for it, and what has its place can be written again', async () => {
    const folder = fresh();
    const room = new OverlayRoom(3 * overlayBlock);
    const overlay = new Overlay(folder, below, room);
    await overlay.write(0, Buffer.alloc(2 * overlayBlock, 1));
    await expect(overlay.write(overlayBlock, Buffer.alloc(3 * overlayBlock, 2))).rejects.toThrow(OverlayFull);
    expect((await overlay.read(overlayBlock, 10)).equals(Buffer.alloc(10, 1))).toBe(true);
    await overlay.write(0, Buffer.alloc(2 * overlayBlock, 3));
    expect(room).toMatchObject({ used: 2 * overlayBlock, full: false });
    overlay.close();
    const again = new OverlayRoom(3 * overlayBlock);
    new Overlay(folder, below, again).close();
    expect(again.used).toBe(2 * overlayBlock);
  });

  it('is written and read by clients of others, each export by its name', async () => {
    const key = randomBytes(32);
    fs.writeFileSync(`${base}/keys.psk`, `${nbdUser}:${key.toString('hex')}\n`, { mode: 0o600 });
    const one = open(fresh());
    const other = open(fresh());
    const server = new NbdServer(
      {
        exports: new Map([
          ['one', one],
          ['other', other],
        ]),
        onRead: () => undefined,
      },
      key,
    );
    const port = await server.listen('127.0.0.1');
    const address = (name: string) => `nbds://${nbdUser}@127.0.0.1:${port}/${name}?tls-psk-file=${base}/keys.psk`;
    const data = randomBytes(size);
    fs.writeFileSync(`${base}/new.raw`, data);
    await run('nbdcopy', ['--flush', `${base}/new.raw`, address('one')]);
    await run('nbdcopy', [address('one'), `${base}/back.raw`]);
    expect(fs.readFileSync(`${base}/back.raw`).equals(data)).toBe(true);
    expect((await other.read(0, size)).equals(under)).toBe(true);
    const { stdout } = await run('nbdinfo', ['--list', '--json', address('one')]);
    expect(JSON.parse(stdout)).toMatchObject({ exports: [{ is_read_only: false, can_fua: true, can_flush: true }, {}] });
    await expect(run('nbdcopy', [`${base}/new.raw`, address('none')])).rejects.toThrow();
    server.close();
    one.close();
    other.close();
  });
});
