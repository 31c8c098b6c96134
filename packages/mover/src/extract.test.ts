import { closePools } from '@lithodex/connectors';
import { execFile } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { promisify } from 'node:util';
import { DiskFolder, makeEnvelope, Store, threadFile, topEntry } from '@lithodex/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { describeTree, makeNastyTree, temporaryFolder } from '../../../tests/support/nasty-tree';
import { folderTree, quietly } from '../../../tests/support/store-kit';
import { takePoint } from './work/take-point';

let base: string;
const passphrase = 'a passphrase that is long enough';

beforeAll(async () => {
  base = temporaryFolder('extract');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/source`);
  makeNastyTree(`${base}/source`);
  const key = randomBytes(32);
  const store = await Store.create(new DiskFolder(`${base}/store`), key, new Date(0));
  const workload = { id: '1', name: 'quay-1', source: 'quay-1', path: `${base}/source` };
  const what = { from: folderTree(workload.path), include: [], exclude: [] };
  const at = Date.UTC(2026, 10, 22, 21);
  await takePoint(store, { taskId: 'first', seriesId: 's1', workload, kind: 'full', previous: null, moment: at, ...what }, quietly);
  await closePools();
  fs.writeFileSync(`${base}/envelope.json`, JSON.stringify(makeEnvelope(store.keys, store.header, 'quay-disk', passphrase)));
  fs.writeFileSync(`${base}/key`, key);
});
afterAll(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

/** Runs the command as if from the base folder, with nothing else running. */
async function extract(args: string[], secret = passphrase): Promise<{ code: number; out: string; err: string }> {
  const env = { PATH: process.env['PATH'], LITHODEX_FROM: base, LITHODEX_PASSPHRASE: secret };
  return promisify(execFile)(process.execPath, [threadFile('extract'), ...args], { env }).then(
    ({ stdout, stderr }) => ({ code: 0, out: stdout, err: stderr }),
    (e: unknown) => {
      const { code, stdout, stderr } = e as { code: number; stdout: string; stderr: string };
      return { code, out: stdout, err: stderr };
    },
  );
}

describe('extracting without server and database', () => {
  it('lists the points of a target', async () => {
    const { out, code } = await extract(['--store', 'store', '--envelope', 'envelope.json', '--list']);
    expect(code).toBe(0);
    expect(out).toMatch(/^first {2}2026-11-22 21:00 UTC {2}quay-1 {2}full {2}\d+ items, 1[34]\d MB\n1 point\n$/);
  });

  it('brings a whole point back identical, whatever the names and kinds', async () => {
    const { out, code } = await extract(['--store', 'store', '--envelope', 'envelope.json', '--point', 'first', '--to', 'back']);
    expect(out).toContain('every sum checked');
    expect(code).toBe(0);
    const { applyMetadata } = await import('../../connectors/src/files/metadata');
    const store = await Store.open(new DiskFolder(`${base}/store`), fs.readFileSync(`${base}/key`));
    applyMetadata(Buffer.from(`${base}/back`), topEntry((await store.root('s1', 'first'))!.root));
    expect(describeTree(`${base}/back`)).toBe(describeTree(`${base}/source`));
  });

  it('brings one item back with the key file, and leaves what exists', async () => {
    const name = fs.readdirSync(`${base}/source`).find((n) => /^[a-z]+$/.test(n) && fs.lstatSync(`${base}/source/${n}`).isDirectory())!;
    const args = ['--store', 'store', '--key', 'key', '--point', 'first', '--path', name, '--to', 'one'];
    expect((await extract(args)).code).toBe(0);
    expect(fs.readdirSync(`${base}/one`)).toEqual([name]);
    expect((await extract(args)).out).toContain('every sum checked');
  });

  it.each([
    [['--store', 'store', '--envelope', 'envelope.json', '--list'], 'a wrong passphrase, surely', 1, 'does not open'],
    [['--store', 'nowhere', '--envelope', 'envelope.json', '--list'], passphrase, 1, 'missing'],
    [['--store', 'store', '--envelope', 'envelope.json', '--point', 'none', '--to', 'x'], passphrase, 1, 'no point none'],
    [['--store', 'store', '--envelope', 'envelope.json', '--point', 'first', '--path', 'no/such', '--to', 'x'], passphrase, 1, 'no/such'],
    [['--store', 'store'], passphrase, 2, ''],
  ])('says what is wrong: %j', async (args, secret, code, words) => {
    const result = await extract(args, secret);
    expect(result.code).toBe(code);
    expect(result.err).toContain(words);
    expect(result.err).not.toContain('    at ');
  });
});
