import { execFileSync } from 'node:child_process';
import { createSign, X509Certificate } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { platformRights, type MachineDescription } from './description';
import { fileSystemStart } from './guest-image';
import { PlatformService } from './service';

let folder: string;
let service: PlatformService;
let base: string;

const machine = (name: string, more: Partial<MachineDescription> = {}): MachineDescription => ({
  name,
  host: 'mole-1',
  folder: '/Harbour',
  tags: [],
  template: false,
  running: false,
  helper: true,
  processors: 2,
  memory: 2048,
  firmware: 'efi',
  system: 'Linux',
  networks: ['quay'],
  note: '',
  disks: [{ label: 'system', size: 256 << 20, storage: 'fast' }],
  ...more,
});

async function call(method: string, at: string, token = '', body?: unknown): Promise<{ status: number; body: Record<string, unknown> }> {
  const response = await fetch(`${base}${at}`, {
    method,
    headers: { authorization: `Bearer ${token}` },
    ...(body !== undefined && { body: JSON.stringify(body) }),
  });
  return { status: response.status, body: (await response.json()) as Record<string, unknown> };
}

async function enter(account: string): Promise<string> {
  const { body } = await call('POST', '/v1/sessions', '', { account, password: 'gulls' });
  return String(body['token']);
}

beforeAll(async () => {
  folder = fs.mkdtempSync(path.join(os.tmpdir(), 'platform-'));
  service = new PlatformService({ folder: path.join(folder, 'platform') });
  base = await service.start();
  const account = { password: 'gulls', passwordEnds: null, certificate: null, rights: platformRights };
  await call('POST', '/people/describe', '', {
    clusters: [{ name: 'harbour', location: 'Harbour office', hosts: ['mole-1', 'mole-2'], networks: ['quay'] }],
    storages: [
      { name: 'fast', capacity: 1e12, hosts: ['mole-1', 'mole-2'] },
      { name: 'slow', capacity: 1e12, hosts: ['mole-2'] },
    ],
    accounts: [
      { ...account, name: 'keeper' },
      { ...account, name: 'looker', rights: ['inventory.read'] },
      { ...account, name: 'late', passwordEnds: 1 },
    ],
  });
});
afterAll(async () => {
  await service.stop();
  fs.rmSync(folder, { recursive: true });
});

describe('the platform', () => {
  it('makes machines whose disks are real: partition table and file systems are sound, before and after they were written inside', async () => {
    const files = { system: [{ path: '/etc/hostname', content: Buffer.from('gate-01\n').toString('base64') }] };
    await call('POST', '/people/build', '', { ...machine('gate-01'), files });
    const made = service.platform.named('gate-01');
    const image = service.platform.fileOf(made.id, made.disks[0]!.id);
    const check = () => {
      const start = fileSystemStart(true);
      expect(execFileSync('sfdisk', ['-V', image], { encoding: 'utf8' })).toContain('No errors');
      execFileSync('e2fsck', ['-fn', `${image}?offset=${start}`], { stdio: 'pipe' });
      return (file: string) =>
        execFileSync('debugfs', ['-R', `cat ${file}`, `${image}?offset=${start}`], { encoding: 'utf8', stdio: 'pipe' });
    };
    expect(check()('/etc/hostname')).toBe('gate-01\n');
    expect(fs.statSync(image).blocks * 512).toBeLessThan(60 << 20);
    const disk = service.platform.diskOf(made.id, made.disks[0]!.id);
    const before = disk.takeSnapshot('before');
    const content = Buffer.from('opened 06:12\n').toString('base64');
    const work = () =>
      call('POST', '/people/work', '', { name: 'gate-01', disk: 'system', files: [{ path: '/var/log/gate.log', content }] });
    await work();
    await work();
    expect(check()('/var/log/gate.log')).toBe('opened 06:12\n');
    const changed = disk.changed(before).reduce((sum, [, length]) => sum + length, 0);
    expect(changed).toBeGreaterThan(0);
    expect(changed).toBeLessThan(2 << 20);
  });

  it('lets in who has the password or the key of a known certificate, and says why not', async () => {
    expect((await call('POST', '/v1/sessions', '', { account: 'keeper', password: 'wrong' })).body).toMatchObject({
      code: 'SIGN_IN_REFUSED',
    });
    expect((await call('POST', '/v1/sessions', '', { account: 'late', password: 'gulls' })).body).toMatchObject({
      code: 'PASSWORD_EXPIRED',
    });
    expect((await call('GET', '/v1/inventory', 'nobody')).status).toBe(401);
    const key = path.join(folder, 'key.pem');
    const pem = path.join(folder, 'certificate.pem');
    execFileSync(
      'openssl',
      ['req', '-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', key, '-out', pem, '-subj', '/CN=keeper', '-days', '2'],
      { stdio: 'pipe' },
    );
    const certificate = fs.readFileSync(pem, 'utf8');
    await call('POST', '/people/account', '', {
      name: 'keeper',
      password: 'gulls',
      passwordEnds: null,
      certificate: new X509Certificate(certificate).fingerprint256,
      rights: platformRights,
    });
    const { challenge } = (await call('POST', '/v1/challenges')).body as { challenge: string };
    const signature = createSign('sha256').update(challenge).sign(fs.readFileSync(key), 'base64');
    const { token } = (await call('POST', '/v1/sessions', '', { certificate, challenge, signature })).body as { token: string };
    expect((await call('GET', '/v1/session', token)).body).toMatchObject({ account: 'keeper' });
    expect((await call('POST', '/v1/sessions', '', { certificate, challenge, signature })).status).toBe(401);
  });

  it('refuses what the account has no right to, and what machines can not do', async () => {
    const looker = await enter('looker');
    const { machines } = (await call('GET', '/v1/inventory', looker)).body as { machines: { id: string }[] };
    const at = `/v1/machines/${machines[0]!.id}`;
    expect((await call('POST', `${at}/snapshots`, looker, { name: 'x', quiesce: false })).body).toMatchObject({ code: 'RIGHT_MISSING' });
    const keeper = await enter('keeper');
    expect((await call('POST', '/v1/machines', keeper, machine('gate-01'))).body).toMatchObject({ code: 'NAME_TAKEN' });
    const far = machine('gate-02', { disks: [{ label: 'system', size: 1 << 20, storage: 'slow' }] });
    expect((await call('POST', '/v1/machines', keeper, far)).body).toMatchObject({ code: 'NOT_ON_THIS_HOST' });
    const { id } = (await call('POST', '/v1/machines', keeper, machine('gate-03', { running: true, helper: false }))).body as {
      id: string;
    };
    expect((await call('POST', `/v1/machines/${id}/snapshots`, keeper, { name: 'x', quiesce: true })).body).toMatchObject({
      code: 'QUIESCE_FAILED',
    });
    expect((await call('DELETE', `/v1/machines/${id}`, keeper)).body).toMatchObject({ code: 'MACHINE_RUNNING' });
    await call('POST', '/people/switches', '', { snapshotFails: ['gate-03'] });
    expect((await call('POST', `/v1/machines/${id}/snapshots`, keeper, { name: 'x', quiesce: false })).body).toMatchObject({
      code: 'SNAPSHOT_FAILED',
    });
  });

  it('reads and writes ranges, and is the same platform after a restart, without its snapshots', async () => {
    const keeper = await enter('keeper');
    const { id, disks } = (await call('POST', '/v1/machines', keeper, machine('gate-04'))).body as { id: string; disks: { id: string }[] };
    const at = `/v1/machines/${id}/disks/${disks[0]!.id}`;
    const write = await fetch(`${base}${at}/write`, {
      method: 'POST',
      headers: { authorization: `Bearer ${keeper}` },
      body: Buffer.concat([Buffer.from('[[5,3],[200000,2]]\n'), Buffer.from('abcde')]),
    });
    expect(write.status).toBe(200);
    const snapshot = (await call('POST', `/v1/machines/${id}/snapshots`, keeper, { name: 'x', quiesce: true })).body as { id: string };
    await service.stop();
    service = new PlatformService({ folder: path.join(folder, 'platform') });
    base = await service.start();
    const again = await enter('keeper');
    expect(service.platform.named('gate-04').snapshots).toEqual([]);
    expect((await call('DELETE', `/v1/machines/${id}/snapshots/${snapshot.id}`, again)).status).toBe(200);
    const read = await fetch(`${base}${at}/read`, {
      method: 'POST',
      headers: { authorization: `Bearer ${again}` },
      body: JSON.stringify({
        ranges: [
          [4, 5],
          [200_000, 2],
        ],
      }),
    });
    expect(Buffer.from(await read.arrayBuffer()).toString('latin1')).toBe('\0abc\0de');
    expect(await (await fetch(base)).text()).toContain('gate-04');
  });
});
