import { execFile } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import net from 'node:net';
import { promisify } from 'node:util';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import type { Stretch } from '@lithodex/volumes';
import { ReadAhead, type Exported } from './exported';
import { NbdServer, nbdUser } from './nbd-server';

const run = promisify(execFile);
const block = 65_536;
const key = randomBytes(32);
let base: string;
let data: Buffer;
let server: NbdServer | undefined;
let read = 0;

beforeAll(() => {
  base = temporaryFolder('nbd');
  data = Buffer.alloc(block * 200 + 512);
  randomBytes(block * 3).copy(data, block * 7);
  randomBytes(700).copy(data, data.length - 700);
  fs.writeFileSync(`${base}/keys.psk`, `${nbdUser}:${key.toString('hex')}\n`, { mode: 0o600 });
  fs.writeFileSync(`${base}/other.psk`, `${nbdUser}:${randomBytes(32).toString('hex')}\n`, { mode: 0o600 });
});
afterEach(() => {
  server?.close();
});
afterAll(() => fs.rmSync(base, { recursive: true, force: true }));

const memory: Exported = {
  get size() {
    return data.length;
  },
  read: (offset, length) => Promise.resolve(data.subarray(offset, offset + length)),
  stretches(offset, length) {
    const found: Stretch[] = [];
    for (let at = offset; at < offset + length;) {
      const end = Math.min(offset + length, (Math.floor(at / block) + 1) * block);
      found.push({ length: end - at, hole: data.subarray(at, end).every((byte) => byte === 0) });
      at = end;
    }
    return found;
  },
};

async function serve(exported: Exported = memory): Promise<number> {
  read = 0;
  server = new NbdServer({ exports: new Map([['disk', exported]]), onRead: (bytes) => (read += bytes) }, key);
  return server.listen('127.0.0.1');
}
const address = (port: number, file = 'keys.psk') => `nbds://${nbdUser}@127.0.0.1:${port}/disk?tls-psk-file=${base}/${file}`;

describe('a block device over the network', () => {
  it('is copied whole by a client of its own, holes left out', async () => {
    const port = await serve();
    await run('nbdcopy', [address(port), `${base}/copy.raw`]);
    expect(fs.readFileSync(`${base}/copy.raw`).equals(data)).toBe(true);
    expect(read).toBeLessThan(data.length / 4);
  });

  it('is read by the programs of machines', async () => {
    const port = await serve(new ReadAhead(memory));
    const image = `driver=nbd,host=127.0.0.1,port=${port},export=disk,tls-creds=t`;
    const object = `tls-creds-psk,id=t,dir=${base},endpoint=client,username=${nbdUser}`;
    await run('qemu-img', ['convert', '--object', object, '--image-opts', image, '-O', 'raw', `${base}/converted.raw`]);
    expect(fs.readFileSync(`${base}/converted.raw`).subarray(0, data.length).equals(data)).toBe(true);
    const { stdout } = await run('nbdinfo', ['--json', address(port)]);
    expect(JSON.parse(stdout)).toMatchObject({ TLS: true, exports: [{ is_read_only: true, 'export-size': data.length }] });
  });

  it('refuses another key, none, and an unencrypted line', async () => {
    const port = await serve();
    await expect(run('nbdcopy', [address(port, 'other.psk'), `${base}/no.raw`])).rejects.toThrow();
    await expect(run('nbdcopy', [`nbd://127.0.0.1:${port}/disk`, `${base}/no.raw`])).rejects.toThrow();
    expect(read).toBe(0);
  });

  it('refuses to be written to', async () => {
    const port = await serve();
    fs.writeFileSync(`${base}/small.raw`, Buffer.alloc(block, 1));
    await expect(run('nbdcopy', [`${base}/small.raw`, address(port)])).rejects.toThrow();
  });

  it('outlives noise, and hangs up on it', async () => {
    const port = await serve();
    for (const noise of [
      randomBytes(4000),
      Buffer.alloc(4000),
      Buffer.concat([Buffer.from([0, 0, 0, 3]), Buffer.from('IHAVEOPT'), randomBytes(40)]),
    ])
      await new Promise<void>((resolve) => {
        const socket = net.connect(port, '127.0.0.1');
        socket.on('close', () => resolve()).on('error', () => undefined);
        socket.on('data', () => socket.end(noise));
      });
    await run('nbdcopy', [address(port), `${base}/again.raw`]);
    expect(fs.readFileSync(`${base}/again.raw`).equals(data)).toBe(true);
  });

  it('passes an error on as one, and goes on', async () => {
    let broken = true;
    const port = await serve({
      ...memory,
      size: data.length,
      read: (offset, length) => (broken ? Promise.reject(new Error('lost')) : memory.read(offset, length)),
    });
    await expect(run('nbdcopy', [address(port), `${base}/broken.raw`])).rejects.toThrow();
    broken = false;
    await run('nbdcopy', [address(port), `${base}/whole.raw`]);
    expect(fs.readFileSync(`${base}/whole.raw`).equals(data)).toBe(true);
  });
});

describe('reading ahead', () => {
  it('gives the same bytes, whatever is asked in which order', async () => {
    const ahead = new ReadAhead(memory);
    let at = 0;
    for (let n = 0; n < 400; n++) {
      const length = 1 + ((n * 7919) % 300_000);
      if (n % 17 === 0) at = (n * 104_729) % data.length;
      const count = Math.min(length, data.length - at);
      if (count > 0) expect((await ahead.read(at, count)).equals(data.subarray(at, at + count))).toBe(true);
      at = (at + count) % data.length;
    }
  });
});
