import { execFile, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import https from 'node:https';
import { promisify } from 'node:util';
import fc from 'fast-check';
import { DiskFolder, Store, topEntry } from '@lithodex/engine';
import { closePools, treeOf } from '@lithodex/connectors';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { makeNastyTree, temporaryFolder } from '../../../../tests/support/nasty-tree';
import { pointRequest, quietly } from '../../../../tests/support/store-kit';
import { takePoint } from '../work/take-point';
import { ownCertificate, type Certificate } from './certificate';
import { hrefOf, pathOfHref, rangeOf } from './dav-answers';
import { DavServer } from './dav-server';

const run = promisify(execFile);
const secret = randomBytes(24).toString('base64url');
let base: string;
let certificate: Certificate;
let server: DavServer;
let port: number;
let read = 0;
let large: Buffer;

beforeAll(async () => {
  base = temporaryFolder('dav');
  fs.mkdirSync(`${base}/store`);
  makeNastyTree(`${base}/source`);
  large = randomBytes(3_000_000);
  fs.mkdirSync(`${base}/source/plain/deeper`, { recursive: true });
  fs.writeFileSync(`${base}/source/plain/large.bin`, large);
  fs.writeFileSync(`${base}/source/plain/Größe & <Maß>.txt`, 'odd');
  fs.writeFileSync(Buffer.from(`${base}/source/plain/\xff\xfe`, 'latin1'), 'bytes');
  const sparse = fs.openSync(`${base}/source/plain/sparse`, 'w');
  fs.writeSync(sparse, 'begin', 0);
  fs.writeSync(sparse, 'end', 5_000_000);
  fs.closeSync(sparse);
  const store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  const { root } = await takePoint(store, pointRequest(`${base}/source`, 't1', null), quietly);
  certificate = await ownCertificate(base, '127.0.0.1');
  server = new DavServer(certificate, 'lithodex', secret, { tree: treeOf(store), top: topEntry(root) }, (bytes) => (read += bytes));
  port = await server.listen('127.0.0.1');
});
afterAll(async () => {
  server.close();
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

interface Answer {
  readonly status: number;
  readonly headers: Record<string, unknown>;
  readonly body: Buffer;
}
function ask(method: string, path: string, headers: Record<string, string> = {}, key = secret): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const authorization = `Basic ${Buffer.from(`lithodex:${key}`).toString('base64')}`;
    const request = https.request(
      { host: '127.0.0.1', port, path, method, ca: certificate.certificate, headers: { ...(key && { authorization }), ...headers } },
      (res) => {
        const parts: Buffer[] = [];
        res
          .on('data', (part: Buffer) => parts.push(part))
          .on('end', () => resolve({ status: res.statusCode!, headers: res.headers, body: Buffer.concat(parts) }));
      },
    );
    request.on('error', reject);
    request.end();
  });
}

describe('a folder of a point as a drive', () => {
  it('is listed one folder at a time, names of any bytes among it', async () => {
    const top = await ask('PROPFIND', '/plain/', { depth: '1' });
    expect(top.status).toBe(207);
    const hrefs = [...top.body.toString().matchAll(/<D:href>([^<]*)<\/D:href>/g)].map(([, href]) => href);
    expect(hrefs).toEqual([
      '/plain/',
      '/plain/Gr%C3%B6%C3%9Fe%20%26%20%3CMa%C3%9F%3E.txt',
      '/plain/deeper/',
      '/plain/large.bin',
      '/plain/sparse',
      '/plain/%FF%FE',
    ]);
    expect((await ask('PROPFIND', '/plain', { depth: '0' })).body.toString().match(/<D:href>/g)).toHaveLength(1);
    expect((await ask('PROPFIND', '/', { depth: 'infinity' })).status).toBe(403);
    expect((await ask('PROPFIND', '/nothing', { depth: '1' })).status).toBe(404);
    for (const href of hrefs.filter((h) => !h!.endsWith('/'))) expect((await ask('GET', href!)).status).toBe(200);
  });

  it('gives files whole and in parts, reading no more than is asked for', async () => {
    expect((await ask('GET', '/plain/large.bin')).body.equals(large)).toBe(true);
    read = 0;
    const part = await ask('GET', '/plain/large.bin', { range: 'bytes=2000000-2000099' });
    expect(part).toMatchObject({ status: 206, headers: { 'content-range': 'bytes 2000000-2000099/3000000' } });
    expect(part.body.equals(large.subarray(2_000_000, 2_000_100))).toBe(true);
    expect(read).toBe(100);
    expect((await ask('GET', '/plain/sparse', { range: 'bytes=4999990-' })).body.toString()).toBe(`${'\0'.repeat(10)}end`);
    expect((await ask('GET', '/plain/sparse', { range: 'bytes=3-9' })).body.toString()).toBe('in\0\0\0\0\0');
    expect((await ask('GET', '/plain/large.bin', { range: 'bytes=9000000-' })).status).toBe(416);
    const { headers } = await ask('HEAD', '/plain/large.bin');
    expect(headers).toMatchObject({ 'content-length': '3000000', 'accept-ranges': 'bytes' });
    expect((await ask('GET', '/plain/large.bin', { 'if-none-match': String(headers['etag']) })).status).toBe(304);
  });

  it('refuses another key and none, to write, and to leave the folder', async () => {
    for (const key of ['', 'wrong', `${secret}x`]) expect((await ask('GET', '/plain/large.bin', {}, key)).status).toBe(401);
    for (const method of ['PUT', 'DELETE', 'MKCOL', 'MOVE', 'COPY', 'LOCK', 'PROPPATCH', 'POST'])
      expect((await ask(method, '/plain/new')).status).toBe(403);
    for (const path of ['/../store', '/plain/%2e%2e/x', '/plain/..', '/%00', '/%zz']) expect((await ask('GET', path)).status).toBe(400);
    expect((await ask('GET', '/plain')).status).toBe(405);
  });

  it('is looked through by a client of others', async () => {
    fs.writeFileSync(`${base}/.netrc`, `machine 127.0.0.1\nlogin lithodex\npassword ${secret}\n`, { mode: 0o600 });
    const client = spawn('script', ['-qc', `cadaver https://127.0.0.1:${port}/plain/`, '/dev/null'], {
      env: { ...process.env, HOME: base },
      cwd: base,
    });
    let said = '';
    client.stdout.on('data', (data: Buffer) => (said += data.toString()));
    client.stdin.end('y\nls\nget large.bin\nput .netrc\nquit\n');
    await new Promise((resolve) => client.on('close', resolve));
    expect(said).toContain('large.bin');
    expect(said).toContain('deeper');
    expect(said).toMatch(/Uploading .*failed/s);
    expect(fs.readFileSync(`${base}/large.bin`).equals(large)).toBe(true);
  });

  it('has a certificate of its own that vouches for nothing else', async () => {
    fs.writeFileSync(`${base}/other.pem`, (await ownCertificate(base, '127.0.0.2')).certificate);
    const { stdout } = await run('openssl', ['x509', '-in', `${base}/other.pem`, '-noout', '-ext', 'subjectAltName']);
    expect(stdout).toContain('IP Address:127.0.0.2');
    expect(stdout).not.toContain('127.0.0.1');
  });
});

describe('addresses of a drive', () => {
  const part = fc
    .uint8Array({ minLength: 1, maxLength: 12 })
    .map((b) => Buffer.from(b).toString('latin1').replace(/[/\0]/g, '_'))
    .filter((p) => p !== '.' && p !== '..');

  it('lead back to the path they were made of', () => {
    fc.assert(
      fc.property(fc.array(part, { maxLength: 5 }), (parts) => {
        expect(pathOfHref(`/${hrefOf(parts.join('/'))}`)).toBe(parts.join('/'));
      }),
    );
  });

  it('ask for stretches within the file only', () => {
    fc.assert(
      fc.property(fc.string(), fc.nat(1e6), (header, size) => {
        const range = rangeOf(header, size);
        if (range) expect(0 <= range.from && range.from < range.to && range.to <= size).toBe(true);
      }),
    );
    expect(rangeOf('bytes=0-0', 10)).toEqual({ from: 0, to: 1 });
    expect(rangeOf('bytes=-3', 10)).toEqual({ from: 7, to: 10 });
    expect(rangeOf('bytes=0-1,4-5', 10)).toBeUndefined();
    expect(rangeOf('bytes=99999999999999999999-', 10)).toBeNull();
  });
});
