import http from 'node:http';
import type { AddressInfo } from 'node:net';
import { Readable } from 'node:stream';
import { afterEach, describe, expect, it } from 'vitest';
import { EngineError } from '@lithodex/engine';
import { ServerApi, ServerError } from './api';
import { causeOf } from './causes';

const servers: http.Server[] = [];
afterEach(() => {
  for (const server of servers.splice(0)) {
    server.closeAllConnections();
    server.close();
  }
});

/** A server whose answers come one after another; the last one stays. */
async function answering(...answers: ((req: http.IncomingMessage, res: http.ServerResponse) => void)[]) {
  const seen: { url: string | undefined; authorization: string | undefined }[] = [];
  const server = http.createServer((req, res) => {
    seen.push({ url: req.url, authorization: req.headers.authorization });
    answers[Math.min(seen.length, answers.length) - 1]!(req, res);
  });
  servers.push(server);
  await new Promise<void>((resume) => server.listen(0, '127.0.0.1', resume));
  const api = new ServerApi(`http://127.0.0.1:${(server.address() as AddressInfo).port}`, 'secret');
  return { api, seen };
}
const say = (status: number, body: object) => (req: http.IncomingMessage, res: http.ServerResponse) => {
  req.resume();
  res.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(body));
};
const hangUp = (req: http.IncomingMessage) => {
  req.socket.destroy();
};
const restored = { attempt: 1, seq: 0, items: [] };
const task = '00000000-0000-4000-8000-000000000001';

describe('the mover talks to the server', () => {
  it('with its token, and turns refusals into errors with their code', async () => {
    const { api, seen } = await answering(say(409, { code: 'LEASE_LOST', message: 'Another mover has it.' }));
    await expect(api.call('sendRestored', restored, task)).rejects.toMatchObject({ code: 'LEASE_LOST' });
    expect(seen).toEqual([{ url: expect.stringContaining(task) as string, authorization: 'Bearer secret' }]);
  });

  it('insists while the server or its database is away', async () => {
    const { api, seen } = await answering(hangUp, say(503, { code: 'DATABASE_AWAY', message: 'Later.' }), say(200, {}));
    expect(await api.insist('sendRestored', restored, task, () => false)).toEqual({});
    expect(seen).toHaveLength(3);
  });

  it('does not insist against a refusal, nor after it was stopped', async () => {
    const refusing = await answering(say(409, { code: 'LEASE_LOST', message: '' }));
    await expect(refusing.api.insist('sendRestored', restored, task, () => false)).rejects.toBeInstanceOf(ServerError);
    expect(refusing.seen).toHaveLength(1);
    const silent = await answering(hangUp);
    await expect(silent.api.insist('sendRestored', restored, task, () => true)).rejects.toThrow();
    expect(silent.seen).toHaveLength(1);
  });

  it('stops streaming when the server refuses in the middle, however much there is to send', async () => {
    const { api } = await answering((req, res) => {
      req.once('data', () => {
        req.pause();
        res.writeHead(500).end();
      });
    });
    let sent = 0;
    const endless = Readable.from(
      (function* () {
        for (;;) {
          sent++;
          yield Buffer.alloc(1 << 16);
        }
      })(),
    );
    await expect(api.stream('stream', task, endless)).rejects.toThrow('went away');
    const after = sent;
    await new Promise((resume) => setTimeout(resume, 50));
    expect(sent).toBe(after);
    expect(endless.destroyed).toBe(true);
  });
});

describe('the cause of an end', () => {
  const system = (code: string) => Object.assign(new Error(code), { code });

  it.each([
    [new EngineError('TARGET_FULL', 'packs/aa'), 'TARGET_FULL', /Make room/],
    [new EngineError('KEY_WRONG'), 'KEY_WRONG', /another store/],
    [new EngineError('STOPPED'), 'STOPPED', /What was stored so far is used again/],
    [system('ENOENT'), 'SOURCE_VANISHED', /mount it again/],
    [system('EACCES'), 'SOURCE_REFUSED', /right to it/],
    [new Error('odd'), 'UNEXPECTED', /See the log/],
    ['a bare text', 'UNEXPECTED', /See the log/],
  ])('of %s is %s, with what to do', (error, code, remedy) => {
    const cause = causeOf(error);
    expect(cause.code).toBe(code);
    expect(cause.message).toBeTruthy();
    expect(cause.remedy).toMatch(remedy);
  });
});
