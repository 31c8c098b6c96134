import { buildMachine, type PlatformService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, type Client } from '../support/harness';
import { messageOf, Office } from '../support/office';
import { machineOf, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let office: Office;
let pointId: string;
let personId: number;
const store = 'disks/system.raw/p2/home/ragna/Maildir/~mail';
const when = (n: number) => new Date(1_795_000_000_000 + n * 60_000);
const reason = 'the old server had it';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  const { targetId } = await h.connect(admin);
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  const lines = (n: number) => Buffer.from(messageOf(n).toString('latin1').replaceAll('\r\n', '\n'), 'latin1');
  const kept = (folder: string, n: number, flags: string) => ({
    path: `/home/ragna/Maildir/${folder}cur/${Math.floor(when(n).getTime() / 1000)}.M${n}.mail:2,${flags}`,
    content: lines(n),
  });
  const places = ['', '.Dredging.Berth 14/'].map((folder) => ({
    path: `/home/ragna/Maildir/${folder}new/.keep`,
    content: Buffer.from(''),
  }));
  await buildMachine(service.platform, machineOf('mail-relay'), {
    system: [
      ...places,
      ...[1, 2, 3].map((n) => kept('', n, 'S')),
      ...[4, 5, 6].map((n) => kept('.Dredging.Berth 14/', n, 'FS')),
      { path: '/etc/hostname', content: Buffer.from('mail-relay\n') },
    ],
  });
  await admin.call('addPlatform', { body: started.body });
  office = await Office.start(`${h.folder}/office`, {
    people: [{ login: 'ragna.holt', name: 'Ragna Holt', mail: 'ragna.holt@kelmar-harbour.example' }],
    groups: [],
  });
  // two of them are in the mailbox of now, one of these in another folder
  await office.as('ragna.holt', async (client) => {
    await client.mailboxCreate('Archive');
    await client.append('INBOX', messageOf(1), ['\\Seen'], when(1));
    await client.append('Archive', messageOf(4), [], when(4));
  });
  await admin.call('addSystem', { body: office.body() });
  const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
  personId = await idOf('Ragna Holt');
  const { runId } = await admin.call('protectOnce', { id: await idOf('mail-relay'), body: { targetId } });
  await admin.ended(runId);
  pointId = (await admin.call('workload', { id: await idOf('mail-relay') })).pointList[0]!.id;
}, 120_000);
afterAll(async () => {
  await h.stop();
  await office.stop();
  await service.stop();
});

const tree = (path: string) => admin.call('tree', { id: pointId, query: { path } });
const missing = async () => {
  const { items, ...rest } = await admin.call('itemChanges', { id: pointId, body: { workloadId: personId, path: store } });
  return { items, ...rest };
};
const restore = async (paths: readonly string[], more: object = {}) => {
  const destination = { to: 'member' as const, workloadId: personId, below: '' };
  const picks = paths.map((path) => ({ pointId, path }));
  return admin.ended((await admin.call('startRestore', { body: { picks, destination, rule: 'leave', reason, ...more } })).runId);
};

describe('a mail store inside a machine', () => {
  it('is found by itself, and walked as mailboxes', async () => {
    const { rows, whole } = await admin.call('mailStores', { id: pointId, query: { path: 'disks/system.raw/p2' } });
    expect({ rows, whole }).toEqual({ rows: [{ path: store, layout: 'Maildir' }], whole: true });
    const folder = await tree('disks/system.raw/p2/home/ragna/Maildir');
    expect(folder.rows.find((r) => r.name === '~mail')).toMatchObject({ kind: 'folder', about: 'mail store, Maildir' });
    expect((await tree(`${store}/Mail`)).rows.map((r) => r.name)).toEqual(['Dredging', 'INBOX']);
    const { rows: messages } = await tree(`${store}/Mail/INBOX`);
    expect(messages.map((m) => m.name)).toEqual([1, 2, 3].map((n) => expect.stringContaining(`Soundings berth ${n}`) as string));
    const read = await admin.call('preview', { id: pointId, query: { path: messages[0]!.path } });
    expect(read).toMatchObject({ as: 'message', subject: 'Soundings berth 1' });
    await expect(admin.call('mailStores', { id: pointId, query: { path: 'disks' } })).rejects.toMatchObject({ code: 'INVALID' });
    await expect((await h.as('clerk')).call('mailStores', { id: pointId, query: { path: store } })).rejects.toMatchObject({ status: 403 });
  });

  it('stands beside the mailbox of now: what is in neither folder of that is told, and comes back with its marks', async () => {
    const before = await missing();
    expect(before).toMatchObject({ looked: 6, counts: { gone: 4, changed: 0, added: 0 }, troubles: [] });
    expect(before.items.map((i) => i.label).sort()).toEqual([2, 3, 5, 6].map((n) => `Soundings berth ${n}`));
    const paths = before.items.map((i) => i.path);
    const plan = await admin.call('planRestore', {
      body: { picks: paths.map((path) => ({ pointId, path })), destination: { to: 'member', workloadId: personId } },
    });
    expect(plan.items.map((i) => i.goesTo)).toContain('Mail/Dredging/Berth 14 of Ragna Holt');
    const tried = await restore(paths, { trial: true });
    expect([tried.state, (await missing()).counts.gone]).toEqual(['done', 4]);
    const run = await restore(paths);
    expect(run.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    const log = (await admin.call('runLog', { id: run.id, query: {} })).rows.map((r) => r.message);
    expect(log).toContain('INBOX: 1 → 3 messages, 2 brought back');
    const now = await office.mailbox('ragna.holt');
    expect(now['Dredging/Berth 14']).toHaveLength(2);
    expect(now['Dredging/Berth 14']!.every((line) => line.includes('Flagged') && line.includes('Seen'))).toBe(true);
    expect((await missing()).counts.gone).toBe(0);
    // the same again: nothing comes twice
    await restore([`${store}/Mail`]);
    expect((await office.mailbox('ragna.holt'))['INBOX']).toHaveLength(3);
  });

  it('goes to people only, and to a mailbox that can be carried away', async () => {
    await expect(
      admin.call('planRestore', {
        body: {
          picks: [{ pointId, path: 'disks/system.raw/p2/etc/hostname' }],
          destination: { to: 'member', workloadId: personId },
        },
      }),
    ).rejects.toMatchObject({ code: 'INVALID' });
    const body = { picks: [{ pointId, path: `${store}/Mail` }], destination: { to: 'download' as const, format: 'mbox' as const }, reason };
    const { runId } = await admin.call('startRestore', { body });
    const text = Buffer.from(await (await admin.fetch('download', { id: runId })).arrayBuffer()).toString('latin1');
    expect(text.match(/^From /gm)).toHaveLength(6);
  });
});
