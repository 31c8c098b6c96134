import { closePools } from '@lithodex/connectors';
import { execFile } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { promisify } from 'node:util';
import { DiskFolder, makeEnvelope, Store } from '@lithodex/engine';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { keepReader } from '../../mover/src/work/keep-reader';
import { takePoint } from '../../mover/src/work/take-point';
import { keyedHash } from '../../engine/src/native/blake3';
import { openInto, sealInto } from '../../engine/src/native/gcm';
import { compress } from '../../engine/src/native/zstd';
import { makeNastyTree, temporaryFolder } from '../../../tests/support/nasty-tree';
import { folderTree, quietly } from '../../../tests/support/store-kit';
import * as pureBlake from './pure/blake3';
import * as pureGcm from './pure/gcm';
import * as pureZstd from './pure/zstd';

let base: string;
let store: Store;
const passphrase = 'a passphrase that is long enough';

beforeAll(async () => {
  base = temporaryFolder('reader');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/source`);
  makeNastyTree(`${base}/source`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  store.installation = 'a'.repeat(32);
  const workload = { id: '1', name: 'quay-1', source: 'quay-1', path: `${base}/source` };
  const what = { from: folderTree(workload.path), include: [], exclude: [] };
  const at = Date.UTC(2026, 10, 22, 21);
  await takePoint(store, { taskId: 'first', seriesId: 's1', workload, kind: 'full', previous: null, moment: at, ...what }, quietly);
  await closePools();
  expect(await keepReader(store)).toEqual(['open/lithodex-reader.mjs', 'open/READ-ME.txt']);
  fs.writeFileSync(`${base}/envelope.json`, JSON.stringify(makeEnvelope(store.keys, store.header, 'quay-disk', passphrase)));
});
afterAll(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

/** Runs the reader that lies on the target, from a copy of the target in a place where nothing else is. */
async function read(args: string[], secret = passphrase): Promise<{ code: number; out: string; err: string }> {
  const env = { PATH: process.env['PATH'], LITHODEX_PASSPHRASE: secret };
  return promisify(execFile)(process.execPath, [`${base}/alone/open/lithodex-reader.mjs`, ...args], { env, cwd: base }).then(
    ({ stdout, stderr }) => ({ code: 0, out: stdout, err: stderr }),
    (e: unknown) => {
      const { code, stdout, stderr } = e as { code: number; stdout: string; stderr: string };
      return { code, out: stdout, err: stderr };
    },
  );
}

/** What a tree is, as far as the reader brings it back: kinds, bytes, permissions, owners, times to the millisecond, links. */
function shape(folder: string): { lines: string[]; times: number[] } {
  const lines: string[] = [];
  const times: number[] = [];
  const go = (at: Buffer, shown: string) => {
    for (const name of fs.readdirSync(at, { encoding: 'buffer' }).sort((a, b) => Buffer.compare(a, b))) {
      const path = Buffer.concat([at, Buffer.from('/'), name]);
      const s = fs.lstatSync(path);
      if (s.isSocket() || s.isFIFO() || s.isCharacterDevice() || s.isBlockDevice()) continue;
      const here = `${shown}/${name.toString('latin1')}`;
      const what = s.isSymbolicLink()
        ? `link ${fs.readlinkSync(path, 'latin1')}`
        : `${s.isDirectory() ? 'folder' : `file ${s.size} ${keyedHash(store.keys.nameKey, fs.readFileSync(path)).toString('hex').slice(0, 16)}`} ${(s.mode & 0o7777).toString(8)} ${s.uid}:${s.gid}`;
      if (!s.isSymbolicLink()) times.push(s.mtimeMs);
      lines.push(`${here} ${what}`);
      if (s.isDirectory()) go(path, here);
    }
  };
  go(Buffer.from(folder), '');
  return { lines, times };
}

describe('the reader on a target', () => {
  it('lists points and brings one back, on a machine with nothing but Node', async () => {
    fs.cpSync(`${base}/store`, `${base}/alone`, { recursive: true });
    const { out } = await read(['--envelope', `${base}/envelope.json`, '--list']);
    expect(out).toMatch(/^first {2}2026-11-22 21:00 UTC {2}quay-1 {2}full {2}\d+ items, 1[34]\d MB\n1 point\n$/);
    const back = await read(['--envelope', `${base}/envelope.json`, '--point', 'first', '--to', `${base}/back`]);
    // what needs more of the system than Node has is said, item by item
    expect(back.out.split('\n').filter((l) => l.startsWith('failed') && !l.includes('is not made by this reader'))).toEqual([]);
    const [then, now] = [shape(`${base}/source`), shape(`${base}/back`)];
    expect(now.lines).toEqual(then.lines);
    for (const [i, time] of then.times.entries()) expect(Math.abs(now.times[i]! - time)).toBeLessThan(1);
  });

  it.each([
    [['--list'], passphrase, 2, ''],
    [['--envelope', 'envelope.json', '--list'], 'a wrong passphrase, surely', 1, 'does not open'],
    [['--envelope', 'envelope.json', '--point', 'none', '--to', 'x'], passphrase, 1, 'no point none'],
    [['--envelope', 'envelope.json', '--point', 'first', '--to', 'source'], passphrase, 1, 'is not empty'],
    [['--envelope', 'envelope.json', '--store', 'nowhere', '--list'], passphrase, 1, 'missing'],
  ])('says what is wrong: %j', async (args, secret, code, words) => {
    const result = await read(args, secret);
    expect(result.code).toBe(code);
    expect(result.err).toContain(words);
    expect(result.err).not.toContain('    at ');
  });

  it('is written anew where it is not as it was, and left alone where it is', async () => {
    expect(await keepReader(store, { whole: true })).toEqual([]);
    fs.appendFileSync(`${base}/store/open/lithodex-reader.mjs`, '// by somebody else');
    expect(await keepReader(store)).toEqual([]);
    expect(await keepReader(store, { whole: true })).toEqual(['open/lithodex-reader.mjs']);
    fs.rmSync(`${base}/store/open`, { recursive: true });
    expect(await keepReader(store)).toHaveLength(2);
    store.installation = undefined;
    fs.rmSync(`${base}/store/open`, { recursive: true });
    expect(await keepReader(store)).toEqual([]);
  });
});

describe('what needs nothing of the system', () => {
  const bytes = (max = 3000) => fc.uint8Array({ maxLength: max });
  it('hashes, opens and unpacks as the engine does', () => {
    fc.assert(
      fc.property(bytes(), fc.uint8Array({ minLength: 32, maxLength: 32 }), (data, key) => {
        expect(pureBlake.keyedHash(Buffer.from(key), data)).toEqual(keyedHash(Buffer.from(key), data));
        const packed = compress(data);
        expect(pureZstd.decompress(packed, data.length)).toEqual(Buffer.from(data));
        expect(pureZstd.decompress(packed, data.length + 1)).toBeUndefined();
        const [sealed, nonce, aad] = [Buffer.alloc(data.length + 16), Buffer.alloc(12, 7), Buffer.from('here')];
        sealInto(sealed, key, nonce, aad, data);
        const [a, b] = [Buffer.alloc(data.length), Buffer.alloc(data.length)];
        expect(pureGcm.openInto(a, key, nonce, aad, sealed)).toBe(openInto(b, key, nonce, aad, sealed));
        expect(a).toEqual(b);
        sealed[sealed.length - 1]! ^= 1;
        expect(pureGcm.openInto(a, key, nonce, aad, sealed)).toBeUndefined();
      }),
    );
  });
  it('takes damaged data for what it is', () => {
    fc.assert(fc.property(bytes(200), (data) => pureZstd.decompressInto(Buffer.alloc(50), data) === undefined || true));
    const packed = compress(Buffer.alloc(5000, 'tide'));
    packed[packed.length >> 1]! ^= 0xff;
    expect(pureZstd.decompress(packed, 5000)?.equals(Buffer.alloc(5000, 'tide')) ?? false).toBe(false);
  });
});
