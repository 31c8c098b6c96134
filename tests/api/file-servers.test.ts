import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { SharePoint } from '@lithodex/kinds';
import { Harness, policyFor, type Client } from '../support/harness';
import { smbAccount, smbPassword, startSamba } from '../support/shares';

let h: Harness;
let admin: Client;
let server: Awaited<ReturnType<typeof startSamba>>;
let plans: string;
let other: string;
let targetId: string;
let systemId: number;
let workloadId: number;
let policyId: number;
const reason = 'somebody misses it';

const address = (more: object = {}) => ({
  kind: 'share' as const,
  host: '127.0.0.1',
  port: server.port,
  account: smbAccount,
  accessLists: true,
  ...more,
});
const body = (more: object = {}) => ({
  name: 'Drawing office',
  location: 'Quay',
  address: address(more),
  readBy: null,
  secret: smbPassword as string | null,
});

/** Everything below a folder: content, and time to the second. */
function shown(folder: string): Record<string, string> {
  const all: Record<string, string> = {};
  for (const name of fs.readdirSync(folder, { recursive: true, encoding: 'utf8' })) {
    const stat = fs.statSync(`${folder}/${name}`);
    all[name] = stat.isFile() ? `${fs.readFileSync(`${folder}/${name}`, 'base64')} ${Math.floor(stat.mtimeMs / 1000)}` : 'folder';
  }
  return all;
}
const put = (name: string, content: string | Buffer, at = Date.parse('2026-03-04T05:06:07Z')) => {
  fs.mkdirSync(`${plans}/${name}`.replace(/\/[^/]*$/, ''), { recursive: true });
  fs.writeFileSync(`${plans}/${name}`, content);
  fs.utimesSync(`${plans}/${name}`, at / 1000, at / 1000);
  // the account there is nobody
  for (let at = `${plans}/${name}`; at.length >= plans.length; at = at.replace(/\/[^/]*$/, '')) fs.chownSync(at, 65534, 65534);
};
/** Says something to the share as another client would. */
function smb(command: string): string {
  const opener = `${h.folder}/opener`;
  fs.writeFileSync(opener, `username=${smbAccount}\npassword=${smbPassword}\n`, { mode: 0o600 });
  const args = [
    '-s',
    '/dev/null',
    '-A',
    opener,
    '-p',
    String(server.port),
    '--client-protection=encrypt',
    '//127.0.0.1/plans',
    '-c',
    command,
  ];
  return execFileSync('smbclient', args, { encoding: 'utf8' });
}
const take = async () => admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
const points = async () => (await admin.call('workload', { id: workloadId })).pointList;
const restore = async (path: string, destination: object, more: object = {}) => {
  const picks = [{ pointId: (await points()).at(-1)!.id, path }];
  const run = await admin.ended((await admin.call('startRestore', { body: { picks, destination, reason, ...more } as never })).runId);
  return run;
};

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 6000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  plans = `${h.folder}/samba/plans`;
  other = `${h.folder}/samba/other`;
  for (const folder of [plans, other]) {
    fs.mkdirSync(folder, { recursive: true });
    fs.chmodSync(folder, 0o777);
    fs.chownSync(folder, 65534, 65534);
  }
  server = await startSamba(`${h.folder}/samba`, { plans, other }, 445);
  put('north/mole  one.dwg', randomBytes(40_000));
  put('north/Ü-ñ 漢字 😀.txt', 'written in many ways');
  put('north/deep/er/and a name that is longer than thirty bytes.txt', 'x');
  put('large.bin', randomBytes(9_000_000));
  put('empty', '');
  put('hidden', 'h');
  fs.mkdirSync(`${plans}/nothing in it`);
  fs.chownSync(`${plans}/nothing in it`, 65534, 65534);
}, 60_000);
afterAll(async () => {
  await server.stop();
  await h.stop();
});

describe('a file server', () => {
  it('is tested right by right, and says what is missing', async () => {
    const test = (given: ReturnType<typeof body>) => admin.call('testSystem', { body: { id: null, body: given } });
    const fine = await test(body());
    expect(fine).toMatchObject({ ok: true, found: 4 });
    expect(fine.needs.map((n) => n.right)).toContain('Read access lists of plans');
    expect(fine.needs.every((n) => !n.missing)).toBe(true);
    expect(await test({ ...body(), secret: 'wrong' })).toMatchObject({ ok: false, message: expect.stringContaining('does not let us in') });
    const named = await test(body({ shares: ['plans', 'no such share'] }));
    expect(named.needs.filter((n) => n.missing).map((n) => n.right)).toEqual(['List folders of no such share']);
    expect(await test(body({ port: 1 }))).toMatchObject({ ok: false, message: expect.stringContaining('does not answer') });
    await expect(test(body({ shares: ['a"b'] }))).rejects.toMatchObject({ code: 'INVALID' });
    await expect(test(body({ account: 'keeper\npassword=' }))).rejects.toMatchObject({ code: 'INVALID' });
  });

  it('shows its shares, and keeps its password for itself and its address', async () => {
    ({ id: systemId } = await admin.call('addSystem', { body: body({ shares: ['plans', 'other'] }) }));
    const { workloads } = await admin.call('estate');
    const plansRow = workloads.find((w) => w.name === 'plans')!;
    expect(plansRow).toMatchObject({ kind: 'share', facts: { comment: 'what plans is for', trouble: '' } });
    workloadId = plansRow.id;
    expect(JSON.stringify(await admin.call('listSystems'))).not.toContain('gulls');
    const moved = { ...body({ shares: ['plans', 'other'], host: 'localhost' }), secret: null };
    await expect(admin.call('changeSystem', { id: systemId, body: moved })).rejects.toMatchObject({ code: 'INVALID' });
    await admin.call('changeSystem', { id: systemId, body: { ...moved, address: address({ shares: ['plans', 'other'] }) } });
  });

  it('is taken whole, then only what changed, and each point is as it was then', async () => {
    policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { exclude: ['*.tmp'] }) })).id;
    put('left out.tmp', 'not wanted');
    const full = await take();
    expect([full.state, full.cause]).toEqual(['done', null]);
    const [first] = await points();
    expect(SharePoint.parse(first!.facts)).toMatchObject({ share: 'plans', files: 6, folders: 4, accessLists: true });
    expect(first!.complete).toBe(true);
    const again = await take();
    expect(again.tasks[0]!.counts.read).toBe(0);
    put('north/mole  one.dwg', randomBytes(50_000), Date.parse('2026-04-01T00:00:00Z'));
    fs.rmSync(`${plans}/empty`);
    put('new', 'n');
    const third = await take();
    expect(third.tasks[0]!.counts.read).toBe(50_001);
    expect((await points()).at(-1)).toMatchObject({ added: 1, changed: 1, removed: 1 });
    const { rows } = await admin.call('tree', { id: (await points()).at(-1)!.id, query: { path: '' } });
    expect(rows.map((r) => r.path)).toEqual(['hidden', 'large.bin', 'new', 'north', 'nothing in it']);
    const folder = `${h.folder}/back`;
    expect((await restore('', { to: 'folder', folder, keepPath: false })).state).toBe('done');
    fs.rmSync(`${plans}/left out.tmp`);
    expect(shown(folder)).toEqual(shown(plans));
  });

  it('comes back where it was: what is missing, what differs, and beside it', async () => {
    const was = shown(plans);
    fs.rmSync(`${plans}/north`, { recursive: true });
    put('new', 'spoilt', Date.parse('2026-05-05T05:05:05Z'));
    const left = await restore('', { to: 'original' });
    expect([left.state, left.cause]).toEqual(['done', null]);
    expect(shown(plans)).toEqual({ ...was, new: shown(plans)['new'] });
    expect(fs.readFileSync(`${plans}/new`, 'utf8')).toBe('spoilt');
    await restore('new', { to: 'original' }, { rule: 'beside' });
    const beside = fs.readdirSync(plans).find((n) => n.startsWith('new (restored'))!;
    expect(fs.readFileSync(`${plans}/${beside}`, 'utf8')).toBe('n');
    fs.rmSync(`${plans}/${beside}`);
    const plan = await admin.call('planRestore', {
      body: { name: 'x', picks: [{ pointId: (await points()).at(-1)!.id, path: 'new' }], destination: { to: 'original' }, rule: 'replace' },
    });
    expect(plan.checks.map((c) => c.code)).toEqual(expect.arrayContaining(['RIGHTS', 'REPLACED', 'AS_OF']));
    await restore('new', { to: 'original' }, { rule: 'replace', rescue: false });
    expect(shown(plans)).toEqual(was);
    expect(fs.readdirSync(plans, { recursive: true }).filter((n) => String(n).includes('~lithodex'))).toEqual([]);
  });

  it('goes to another share and folder, with who may do what, and never over it', async () => {
    const run = await restore('north', { to: 'fileServer', systemId, share: 'other', folder: 'brought/back' });
    expect(run.state).toBe('done');
    expect(shown(`${other}/brought/back/north`)).toEqual(shown(`${plans}/north`));
    for (const folder of ['../out', 'a//b', 'a\\b'])
      await expect(restore('north', { to: 'fileServer', systemId, share: 'other', folder })).rejects.toMatchObject({ code: 'INVALID' });
    const closed = await admin.call('planRestore', {
      body: {
        name: 'x',
        picks: [{ pointId: (await points()).at(-1)!.id, path: 'north' }],
        destination: { to: 'fileServer', systemId, share: 'no such share' },
      },
    });
    expect(closed.checks.find((c) => c.level === 'stop')?.code).toBe('SHARE_SHUT');
    const files = await admin.call('planRestore', {
      body: {
        name: 'x',
        picks: [{ pointId: (await points())[0]!.id, path: '' }],
        destination: { to: 'fileServer', systemId, share: 'other' },
      },
    });
    expect(files.items[0]!.goesTo).toContain('other');
  });

  it('keeps its attributes on the way, and is tried in a drill', async () => {
    smb('setmode new +rh');
    await take();
    smb('setmode new -r');
    fs.rmSync(`${plans}/new`);
    expect((await restore('new', { to: 'original' })).state).toBe('done');
    expect(smb('ls new')).toMatch(/^ {2}new +A?HR +1 /m);
    smb('setmode new -rh');
    const checks = [{ check: 'file' as const, path: 'new', sum: '', holds: 'n' }];
    await admin.call('changeDrillPlan', { id: workloadId, body: { checks, objective: 600, weight: 1 } });
    const { runId } = await admin.call('startDrill', { body: { workloads: [workloadId] } });
    const run = await admin.ended(runId);
    expect([run.state, run.cause]).toEqual(['done', null]);
  });

  it('says which file the account may not read, keeps what it had of it, and reads it later', async () => {
    put('hidden', 'another content', Date.parse('2026-06-06T06:06:06Z'));
    fs.chmodSync(`${plans}/hidden`, 0o000);
    fs.mkdirSync(`${plans}/shut`);
    fs.chmodSync(`${plans}/shut`, 0o700);
    const run = await take();
    expect(run.state).toBe('partsMissing');
    const { rows } = await admin.call('runLog', { id: run.id, query: { limit: 100 } });
    const told = rows.filter((r) => r.level === 'warning').map((r) => r.code);
    expect(told).toEqual(expect.arrayContaining(['FILE_UNREAD', 'FOLDER_UNREAD']));
    expect((await points()).at(-1)!.complete).toBe(false);
    fs.chmodSync(`${plans}/hidden`, 0o644);
    fs.rmSync(`${plans}/shut`, { recursive: true });
    expect((await take()).state).toBe('done');
    const folder = `${h.folder}/later`;
    await restore('hidden', { to: 'folder', folder, keepPath: false });
    expect(fs.readFileSync(`${folder}/hidden`, 'utf8')).toBe('another content');
  });

  it('fails with its cause where the server is away, and goes on when it is back', async () => {
    const { port } = server;
    await server.stop();
    const away = await take();
    expect([away.state, away.cause?.code]).toEqual(['failed', 'SHARE_AWAY']);
    server = await startSamba(`${h.folder}/samba`, { plans, other }, port);
    expect((await take()).state).toBe('done');
  });

  it('is whole after kill -9 of the mover that brings it back', async () => {
    fs.rmSync(`${plans}/large.bin`);
    for (let i = 0; i < 40; i++) put(`many/${i}`, randomBytes(200_000));
    await take();
    const was = shown(`${plans}/many`);
    fs.rmSync(`${plans}/many`, { recursive: true });
    const picks = [{ pointId: (await points()).at(-1)!.id, path: 'many' }];
    const { runId } = await admin.call('startRestore', { body: { picks, destination: { to: 'original' }, reason } });
    const there = () => (fs.existsSync(`${plans}/many`) ? fs.readdirSync(`${plans}/many`).length : 0);
    await expect.poll(there, { timeout: 30_000, interval: 5 }).toBeGreaterThan(3);
    await h.killMover('mover-1');
    h.startMover('mover-1');
    expect((await admin.ended(runId)).state).toBe('done');
    const now = shown(`${plans}/many`);
    expect(now).toEqual(was);
  });
});
