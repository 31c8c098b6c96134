import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BodyInput } from '@lithodex/contract';
import type { PlatformService } from '@lithodex/standins';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, startPlatform } from '../support/platform';
import { smbAccount, smbPassword, startSamba, startWebdav } from '../support/shares';

let h: Harness;
let admin: Client;
let service: PlatformService;
let samba: Awaited<ReturnType<typeof startSamba>>;
let dav: Awaited<ReturnType<typeof startWebdav>>;
let source: string;
let pointId: string;
let machinePoint: string;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  const connected = await h.connect(admin);
  ({ source } = connected);
  fs.mkdirSync(`${source}/rosters/Größe und Maß`, { recursive: true });
  fs.writeFileSync(`${source}/rosters/a: what?.txt`, 'odd names');
  fs.writeFileSync(`${source}/rosters/Größe und Maß/paper`, 'p'.repeat(3_000_000));
  fs.writeFileSync(`${source}/rosters/empty`, '');
  fs.writeFileSync(Buffer.from(`${source}/rosters/\xff\xfe`, 'latin1'), 'bytes');
  fs.symlinkSync('empty', `${source}/rosters/link`);
  fs.writeFileSync(`${source}/rosters/Case`, '1');
  fs.writeFileSync(`${source}/rosters/case`, '2');
  fs.writeFileSync(`${source}/rosters/Abc`, '');
  fs.mkdirSync(`${source}/rosters/abc`);
  fs.writeFileSync(`${source}/rosters/abc/below`, 'left out with its folder');
  fs.utimesSync(`${source}/rosters/empty`, 1_600_000_000, 1_600_000_000);
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  await buildLogger(service, 'gate-01');
  await admin.call('addPlatform', { body: started.body });
  const machine = (await admin.call('estate')).workloads.find((w) => w.name === 'gate-01')!.id;
  const policy = await admin.call('addPolicy', { body: policyFor([connected.workloadId, machine], connected.targetId) });
  await admin.ended((await admin.call('runPolicy', { id: policy.id, body: {} })).runId);
  pointId = (await admin.call('workload', { id: connected.workloadId })).pointList[0]!.id;
  machinePoint = (await admin.call('workload', { id: machine })).pointList[0]!.id;
  fs.mkdirSync(`${h.folder}/dav/dav`, { recursive: true });
  [samba, dav] = await Promise.all([startSamba(`${h.folder}/samba`), startWebdav(`${h.folder}/dav`, 'clerk', 'pass word')]);
}, 90_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
  await samba.stop();
  dav.stop();
});

const smb = (more: object = {}, password = smbPassword): BodyInput<'addShare'> => ({
  name: 'office share',
  address: { kind: 'smb', host: '127.0.0.1', port: samba.port, share: 'returned', ...more },
  opener: { account: smbAccount, password },
});
const webdav = (password = 'pass word'): BodyInput<'addShare'> => ({
  name: 'office drive',
  address: { kind: 'webdav', url: dav.url },
  opener: { account: 'clerk', password },
});
const restore = async (shareId: number, more: Partial<BodyInput<'startRestore'>> = {}, folder = 'from/backup') => {
  const body = {
    picks: [{ pointId, path: 'rosters' }],
    reason: 'wanted on the share',
    destination: { to: 'share' as const, shareId, folder },
    ...more,
  };
  return admin.ended((await admin.call('startRestore', { body })).runId);
};
const messages = async (id: number) => (await admin.call('runLog', { id, query: { limit: 200 } })).rows;
const only = (folder: string) => `${folder}/${fs.readdirSync(folder)[0]!}`;

describe('a share in the network', () => {
  it('is tried before it is kept, opened by nobody else, and never shown with what opens it', async () => {
    for (const role of ['operator', 'auditor', 'clerk'] as const)
      await expect((await h.as(role)).call('addShare', { body: smb() })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    for (const [body, said] of [
      [smb({}, 'wrong'), 'does not let us in'],
      [smb({ share: 'nothing' }), 'does not let us in'],
      [smb({ share: 'closed' }), 'does not let us in'],
      [smb({ port: 9 }), 'does not answer'],
      [webdav('wrong'), 'does not let us in'],
      [{ ...webdav(), address: { kind: 'webdav' as const, url: 'http://169.254.169.254/dav' } }, 'is not reached'],
    ] as const)
      await expect(admin.call('addShare', { body })).rejects.toMatchObject({
        code: 'CONNECTION_FAULTY',
        message: expect.stringContaining(said),
      });
    for (const opener of [
      { account: 'a\npassword=b', password: 'x' },
      { account: 'a', password: 'x\nusername = root' },
    ])
      await expect(admin.call('addShare', { body: { ...smb(), opener } })).rejects.toMatchObject({ code: 'INVALID' });
    const { id } = await admin.call('addShare', { body: smb() });
    await expect(admin.call('addShare', { body: smb() })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    expect(JSON.stringify([await admin.call('listShares'), await admin.call('audit', { query: { limit: 20 } })])).not.toContain('gulls');
    await expect(admin.call('changeShare', { id, body: { ...smb({ share: 'closed' }), opener: null } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    await admin.call('changeShare', { id, body: { ...smb(), name: 'office', opener: null } });
    const kept = await h.server.deps.db('share').first<{ secret: Buffer }>();
    expect(kept.secret.toString('latin1')).not.toContain('gulls');
    await admin.call('removeShare', { id });
    expect((await admin.call('listShares')).rows).toEqual([]);
    expect(fs.readdirSync(samba.share)).toEqual([]);
  });

  it('gets files over SMB into a folder of their own, read again, what it can not hold told', async () => {
    const { id } = await admin.call('addShare', { body: smb() });
    const body = { name: 'x', picks: [{ pointId, path: 'rosters' }], destination: { to: 'share' as const, shareId: id, folder: 'from' } };
    const plan = await admin.call('planRestore', { body });
    expect(plan.checks.map((c) => c.code)).toEqual(expect.arrayContaining(['RIGHTS', 'SHARE_KEEPS']));
    await expect(
      admin.call('planRestore', { body: { ...body, destination: { ...body.destination, folder: '../up' } } }),
    ).rejects.toMatchObject({ code: 'INVALID' });
    await expect(
      admin.call('planRestore', { body: { ...body, destination: { ...body.destination, folder: 'a";rm *' } } }),
    ).rejects.toMatchObject({ code: 'INVALID' });
    const run = await restore(id);
    const lines = await messages(run.id);
    expect(run.state, JSON.stringify(lines.map((l) => l.message))).toBe('partsMissing');
    const there = `${only(`${samba.share}/from/backup`)}/rosters`;
    expect(fs.readdirSync(there).sort()).toEqual(['%FF%FE', 'Abc', 'Größe und Maß', 'a%3A what%3F.txt', 'Case', 'empty'].sort());
    expect(fs.readFileSync(`${there}/Größe und Maß/paper`, 'utf8')).toBe('p'.repeat(3_000_000));
    expect(fs.readFileSync(`${there}/a%3A what%3F.txt`, 'utf8')).toBe('odd names');
    expect(fs.statSync(`${there}/empty`).mtimeMs).toBe(1_600_000_000_000);
    expect(lines.find((l) => l.code === 'EVIDENCE')?.message).toContain('6 files of 3.00 MB read again from the share');
    expect(
      lines
        .filter((l) => l.code === 'FAILED')
        .map((l) => l.path)
        .sort(),
    ).toEqual(['rosters/abc', 'rosters/abc/below', 'rosters/case', 'rosters/link']);
    const disk = 'disks/system.raw/p2/var/log/gate.log';
    const inside = await restore(id, { picks: [{ pointId: machinePoint, path: disk }] }, 'inside');
    expect(inside.state).toBe('done');
    expect(fs.readFileSync(`${only(`${samba.share}/inside`)}/gate.log`, 'utf8')).toBe('gate-01 opened\n'.repeat(2000));
  });

  it('gets files over WebDAV, and what comes back otherwise is told', async () => {
    const { id } = await admin.call('addShare', { body: webdav() });
    const run = await restore(id);
    expect(run.state).toBe('partsMissing');
    const there = `${only(`${h.folder}/dav/dav/from/backup`)}/rosters`;
    expect(fs.readFileSync(`${there}/Größe und Maß/paper`, 'utf8')).toBe('p'.repeat(3_000_000));
    expect(fs.readFileSync(`${there}/empty`, 'utf8')).toBe('');
    dav.served.spoil = true;
    expect((await restore(id)).cause?.code).toBe('NOT_AS_STORED');
    dav.served.spoil = false;
    dav.served.full = true;
    expect((await restore(id)).cause?.code).toBe('NO_ROOM_THERE');
    dav.served.full = false;
    const trial = await restore(id, { trial: true }, 'never');
    expect(trial.state).toBe('done');
    expect(fs.existsSync(`${h.folder}/dav/dav/never`)).toBe(false);
  });
});
