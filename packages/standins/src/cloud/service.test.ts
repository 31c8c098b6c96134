import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { cloudRights, type CloudDescription } from './description';
import { CloudService } from './service';

let folder: string;
let service: CloudService;
let base: string;
let token: string;

const MiB = 1 << 20;
const quota = { instances: 2, processors: 4, bytes: 200 * MiB };
const described: CloudDescription = {
  currency: 'EUR',
  addressPerMonth: 3,
  regions: [{ name: 'north', place: 'Fjord', networks: [{ name: 'shore', isolated: false }], groups: [], quota }],
  sizes: [{ name: 'm2', processors: 2, memory: 2048, perHour: 0.04 }],
  classes: [{ name: 'usual', perGBMonth: 0.05, regions: ['north'] }],
  clients: [
    { id: 'all', secret: 'gulls', secretEnds: null, rights: cloudRights },
    { id: 'looks', secret: 'terns', secretEnds: null, rights: ['read'] },
    { id: 'ended', secret: 'auks', secretEnds: 1, rights: cloudRights },
  ],
};

async function enter(client: string, secret: string): Promise<{ status: number; token: string }> {
  const body = new URLSearchParams({ grant_type: 'client_credentials', client_id: client, client_secret: secret });
  const response = await fetch(`${base}/oauth/token`, { method: 'POST', body });
  return { status: response.status, token: ((await response.json()) as { access_token?: string }).access_token ?? '' };
}

async function call<T>(method: string, at: string, body?: unknown, by = token): Promise<{ status: number; body: T }> {
  const raw = Buffer.isBuffer(body) ? new Uint8Array(body) : JSON.stringify(body);
  const response = await fetch(`${base}/v1/${at}`, {
    method,
    headers: { authorization: `Bearer ${by}` },
    ...(body !== undefined && { body: raw }),
  });
  return { status: response.status, body: (await response.json()) as T };
}

const volume = async () =>
  (await call<{ id: string }>('POST', 'volumes', { region: 'north', class: 'usual', label: 'a', size: MiB, tags: ['x'] })).body.id;
const instance = (name: string, volumes: string[]) =>
  call<{ id: string; code?: string }>('POST', 'instances', {
    ...{ name, region: 'north', size: 'm2', network: 'shore', groups: [], tags: [], note: '', system: 'Linux', firmware: 'efi' },
    ...{ running: false, volumes },
  });

/** An image in QCOW2 as a program of its own makes it. */
function qcow2(content: Buffer): Buffer {
  const [raw, image] = [path.join(folder, 'raw'), path.join(folder, 'image')];
  fs.writeFileSync(raw, content);
  execFileSync('qemu-img', ['convert', '-f', 'raw', '-O', 'qcow2', raw, image]);
  return fs.readFileSync(image);
}

async function imported(image: Buffer, to: string, sum = createHash('sha256').update(image).digest('hex')) {
  await call('DELETE', 'staging/object');
  await call('PUT', 'staging/object?offset=0', image);
  const { body } = await call<{ id: string; state: string; why: string }>('POST', 'imports', { staged: 'object', sha256: sum, volume: to });
  for (let job = body; ; job = (await call<typeof body>('GET', `imports/${body.id}`)).body) if (job.state !== 'working') return job;
}

beforeEach(async () => {
  folder = fs.mkdtempSync(path.join(os.tmpdir(), 'cloud-'));
  service = new CloudService({ folder: `${folder}/state` });
  base = await service.start();
  service.cloud.describe(described);
  ({ token } = await enter('all', 'gulls'));
});
afterEach(async () => {
  await service.stop();
  fs.rmSync(folder, { recursive: true });
});

describe('the cloud', () => {
  it('lets in who has a secret that has not ended, and lets each do what it may', async () => {
    expect((await enter('all', 'terns')).status).toBe(401);
    expect((await enter('ended', 'auks')).status).toBe(401);
    expect((await call('GET', 'catalog', undefined, 'nobody')).status).toBe(401);
    const { token: looks } = await enter('looks', 'terns');
    expect((await call('GET', 'catalog', undefined, looks)).status).toBe(200);
    expect(await call('POST', 'volumes', {}, looks)).toMatchObject({ status: 403, body: { code: 'RIGHT_MISSING' } });
  });

  it('makes a volume what an image of another program holds, if it is the one that was announced', async () => {
    const content = Buffer.alloc(MiB, 7);
    content.fill(0, 100_000, 500_000);
    const id = await volume();
    expect(await imported(qcow2(content), id)).toMatchObject({ state: 'done' });
    expect(fs.readFileSync(service.cloud.volumes.fileOf(id)).equals(content)).toBe(true);
    const other = createHash('sha256').update('another').digest('hex');
    expect(await imported(qcow2(content), id, other)).toMatchObject({
      state: 'failed',
      why: expect.stringContaining('announced') as string,
    });
    expect(await imported(qcow2(Buffer.alloc(2 * MiB)), id)).toMatchObject({
      state: 'failed',
      why: expect.stringContaining('size') as string,
    });
    expect(await imported(Buffer.alloc(4096, 1), id)).toMatchObject({ state: 'failed', why: expect.stringContaining('QCOW2') as string });
    expect((await call('PUT', `staging/${encodeURIComponent('../away')}?offset=0`, Buffer.from('x'))).status).toBe(400);
  });

  it('gives no more than the quota, and nothing that something else has', async () => {
    const id = await volume();
    expect((await instance('one', [id])).status).toBe(200);
    expect(await instance('two', [id])).toMatchObject({ status: 409, body: { code: 'IN_USE' } });
    expect(await instance('one', [])).toMatchObject({ status: 409, body: { code: 'NAME_TAKEN' } });
    expect((await call('DELETE', `volumes/${id}`)).status).toBe(409);
    expect((await instance('two', [])).status).toBe(200);
    expect(await instance('three', [])).toMatchObject({ status: 409, body: { code: 'OVER_QUOTA' } });
    const large = { region: 'north', class: 'usual', label: 'b', size: 300 * MiB, tags: [] };
    expect(await call('POST', 'volumes', large)).toMatchObject({ status: 409, body: { code: 'OVER_QUOTA' } });
  });

  it('tells what was written since a snapshot, and forgets nothing when it is started again', async () => {
    const id = await volume();
    const { body } = await instance('one', [id]);
    const snapshot = (await call<{ id: string; volumes: { changeId: string }[] }>('POST', `instances/${body.id}/snapshots`, { name: 's' }))
      .body;
    service.cloud.volumes.disk(id).write(65_536, Buffer.from('written'));
    const since = encodeURIComponent(snapshot.volumes[0]!.changeId);
    expect((await call('GET', `volumes/${id}/ranges?since=${since}`)).body).toEqual([[65_536, 65_536]]);
    expect((await call('GET', `volumes/${id}/ranges?snapshot=${snapshot.id}`)).body).toEqual([]);
    await service.stop();
    service = new CloudService({ folder: `${folder}/state` });
    base = await service.start();
    ({ token } = await enter('all', 'gulls'));
    const { rows } = (await call<{ rows: { name: string; volumes: { tags: string[] }[] }[] }>('GET', 'instances')).body;
    expect(rows).toMatchObject([{ name: 'one', volumes: [{ tags: ['x'] }] }]);
    expect((await call('GET', `volumes/${id}/ranges?since=${since}`)).status).toBe(410);
  });

  it('removes an instance with its volumes once it is off', async () => {
    const id = await volume();
    const { body } = await instance('one', [id]);
    await call('PATCH', `instances/${body.id}`, { running: true });
    expect((await call('DELETE', `instances/${body.id}`)).status).toBe(409);
    await call('PATCH', `instances/${body.id}`, { running: false });
    expect((await call('DELETE', `instances/${body.id}`)).status).toBe(200);
    expect(service.cloud.volumes.all()).toEqual([]);
  });
});
