import fs from 'node:fs';
import https from 'node:https';
import net from 'node:net';
import { pino } from 'pino';
import { afterEach, beforeAll, describe, expect, it } from 'vitest';
import { certificates } from '../../../../../tests/support/certificates';
import { temporaryFolder } from '../../../../../tests/support/nasty-tree';
import { listen, type Listening } from './listen';

const log = pino({ level: 'silent' });
const hello = (_req: unknown, res: { end(text: string): void }) => {
  res.end('hello');
};
const folder = temporaryFolder('listen');
let [first, second]: ReturnType<typeof certificates>[] = [];
let open: Listening | undefined;

beforeAll(() => {
  [first, second] = [certificates(`${folder}/a`, '127.0.0.1'), certificates(`${folder}/b`, '127.0.0.1')];
});
afterEach(async () => {
  await open?.close();
});

/** What is answered by HTTPS to who trusts an authority; or what went wrong. */
const asked = (port: number, ca: string): Promise<string> =>
  new Promise((resolve) => {
    https
      .get({ host: '127.0.0.1', port, ca, agent: false, path: '/' }, (res) => {
        let text = '';
        res
          .on('data', (d: Buffer) => (text += d.toString()))
          .on('end', () => {
            resolve(text);
          });
      })
      .on('error', (e: NodeJS.ErrnoException) => {
        resolve(e.code ?? 'failed');
      });
  });

/** What is answered to some bytes without TLS. */
const said = (port: number, bytes: string): Promise<string> =>
  new Promise((resolve) => {
    let text = '';
    const socket = net.connect(port, '127.0.0.1', () => socket.write(bytes));
    socket.on('data', (d) => (text += d.toString('latin1')));
    socket.on('close', () => {
      resolve(text);
    });
    socket.on('error', () => undefined);
    setTimeout(() => socket.destroy(), 400);
  });

describe('what listens by HTTPS', () => {
  const files = () => ({ certificate: `${folder}/server.pem`, key: `${folder}/server.key` });
  const use = (made: { certificate: string; key: string }, part: 'both' | 'certificate' = 'both') => {
    fs.copyFileSync(made.certificate, files().certificate);
    if (part === 'both') fs.copyFileSync(made.key, files().key);
  };
  const start = async (everyMs?: number) => {
    use(first!);
    open = await listen(hello, { host: '127.0.0.1', port: 0, tls: files() }, log, everyMs);
    return open.port;
  };

  it('answers who speaks TLS, and sends others on at the same port', async () => {
    const port = await start();
    expect(await asked(port, first!.authority)).toBe('hello');
    const moved = await said(port, 'GET /watch?nights=3 HTTP/1.1\r\nHost: 127.0.0.1:1\r\n\r\n');
    expect(moved).toMatch(/^HTTP\/1\.1 308 /);
    expect(moved).toContain(`location: https://127.0.0.1:${port}/watch?nights=3\r\n`);
    expect(await said(port, 'POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 0\r\n\r\n')).toMatch(/^HTTP\/1\.1 426 /);
  });

  it.each(['evil.example/x', 'a@b.example', '', '\x7f'])('sends nobody on by a strange host (%j)', async (host) => {
    const moved = await said(await start(), `GET / HTTP/1.1\r\nHost: ${host}\r\n\r\n`);
    expect(moved).toMatch(/^HTTP\/1\.1 400 /);
    expect(moved).not.toContain('location');
  });

  it('takes a certificate that changed, once certificate and key belong together', async () => {
    const port = await start(20);
    use(second!, 'certificate');
    await new Promise((resume) => setTimeout(resume, 120));
    expect(await asked(port, first!.authority)).toBe('hello');
    use(second!);
    for (const until = Date.now() + 5000; (await asked(port, second!.authority)) !== 'hello';) expect(Date.now()).toBeLessThan(until);
    expect(await asked(port, first!.authority)).not.toBe('hello');
  });

  it('is not stopped by who says nothing, or goes', async () => {
    const port = await start();
    const silent = net.connect(port, '127.0.0.1');
    net.connect(port, '127.0.0.1').on('connect', function (this: net.Socket) {
      this.resetAndDestroy();
    });
    expect(await asked(port, first!.authority)).toBe('hello');
    silent.destroy();
  });

  it('does not start with files that are not there', async () => {
    await expect(listen(hello, { host: '127.0.0.1', port: 0, tls: { certificate: '/nowhere', key: '/nowhere' } }, log)).rejects.toThrow(
      /ENOENT/,
    );
  });
});
