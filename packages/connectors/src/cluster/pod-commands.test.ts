import { Writable } from 'node:stream';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Cluster } from '@lithodex/kinds';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { WebSocketServer } from 'ws';
import { runInPod } from './pod-commands';
import { VolumeListing } from './volume-listing';

let server: Server;
let cluster: Cluster;
/** What the command writes. */
let writes: readonly (readonly [channel: number, text: string])[] = [];
const at = { namespace: 'quay', pod: 'board', container: 'main' };
const success = [3, JSON.stringify({ status: 'Success' })] as const;

beforeAll(async () => {
  const sockets = new WebSocketServer({ noServer: true, handleProtocols: () => 'v5.channel.k8s.io' });
  server = createServer();
  server.on('upgrade', (request, socket, head) => {
    sockets.handleUpgrade(request, socket, head, (open) => {
      for (const [channel, text] of writes) open.send(Buffer.concat([Buffer.from([channel]), Buffer.from(text)]));
      if (writes.length === 0) open.close();
    });
  });
  await new Promise<void>((resume) => server.listen(0, '127.0.0.1', resume));
  cluster = { endpoint: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, token: 't', authority: null } as unknown as Cluster;
});
afterAll(() => {
  server.closeAllConnections();
  server.close();
});

describe('a command in a pod', () => {
  it('ends with its code and what it complained of', async () => {
    const failed = JSON.stringify({ status: 'Failure', details: { causes: [{ reason: 'ExitCode', message: '3' }] } });
    writes = [
      [2, 'no such\nfile'],
      [3, failed],
    ];
    expect(await runInPod(cluster, at, ['cat'])).toEqual({ code: 3, complaint: 'no such file' });
    writes = [[3, 'not what a cluster says']];
    expect((await runInPod(cluster, at, ['cat'])).code).toBe(1);
  });

  it('fails where what takes its output refuses it, also at the very end, and takes nobody along', async () => {
    writes = [[1, 'x'.repeat(200_000)], success];
    await expect(runInPod(cluster, at, ['find'], { stdout: new VolumeListing() })).rejects.toThrow('can not be read');
    writes = [[1, 'f\0'], success];
    await expect(runInPod(cluster, at, ['find'], { stdout: new VolumeListing() })).rejects.toThrow('ends in the middle');
    writes = [[1, 'much']];
    const gone = new Writable({
      write: (_data, _encoding, done) => {
        done();
      },
    });
    const running = runInPod(cluster, at, ['tar'], { stdout: gone });
    gone.destroy();
    await expect(running).rejects.toThrow('nobody reads');
  });

  it('fails where the connection ends before it does, or it takes too long', async () => {
    writes = [];
    await expect(runInPod(cluster, at, ['sleep'])).rejects.toThrow('the connection ended');
    writes = [[1, 'still at it']];
    await expect(runInPod(cluster, at, ['sleep'], { mostMs: 100 })).rejects.toThrow('did not end');
  });
});
