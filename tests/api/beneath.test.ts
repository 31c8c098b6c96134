import fs from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let source: string;
let sourceId: number;
let pointId: string;

beforeAll(async () => {
  h = await Harness.start({ scripts: true });
  admin = await h.as('administrator');
  const set = await h.connect(admin);
  source = set.source;
  sourceId = (await admin.call('estate')).workloads[0]!.source.id;
  fs.mkdirSync(`${source}/plans`);
  fs.writeFileSync(`${source}/plans/north.txt`, 'what was written');
  fs.mkdirSync(`${h.folder}/secret`);
  fs.writeFileSync(`${h.folder}/secret/north.txt`, 'a secret');
  const { id } = await admin.call('addPolicy', { body: policyFor([set.workloadId], set.targetId) });
  await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
  pointId = (await admin.call('workload', { id: set.workloadId })).pointList[0]!.id;
});
afterAll(() => h.stop());

describe('paths that people name', () => {
  it.each(['../../keys', '..', 'plans/../..', '/etc', './plans', 'plans//x', '%2E%2E/secret'])(
    'do not lead out of a source: %s',
    async (path) => {
      for (const role of ['auditor', 'operator', 'administrator'] as const)
        await expect((await h.as(role)).call('discover', { id: sourceId, query: { path } })).rejects.toMatchObject({ code: 'INVALID' });
      for (const folder of ['yes', 'no'] as const)
        await expect(admin.call('compare', { id: pointId, query: { path, folder } })).rejects.toMatchObject({ code: 'INVALID' });
      await expect(admin.call('tree', { id: pointId, query: { path } })).rejects.toMatchObject({ code: 'INVALID' });
    },
  );

  it('are not led out by a link that the owner of the source puts there', async () => {
    fs.symlinkSync(`${h.folder}/secret`, `${source}/door`);
    await expect(admin.call('discover', { id: sourceId, query: { path: 'door' } })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
    fs.renameSync(`${source}/plans`, `${source}/plans.away`);
    fs.symlinkSync(`${h.folder}/secret`, `${source}/plans`);
    const { rows } = await admin.call('compare', { id: pointId, query: { path: 'plans/north.txt' } });
    expect(rows).toMatchObject([{ since: 'gone', now: null }]);
  });

  it('are not led out while something is brought back', async () => {
    fs.renameSync(source, `${source}.away`);
    fs.symlinkSync(`${h.folder}/secret`, source);
    const body = {
      picks: [{ pointId, path: 'plans/north.txt' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      reason: 'it was lost',
    };
    const plan = await admin.call('planRestore', { body });
    expect(plan.checks.filter((c) => c.level === 'stop')).toMatchObject([{ code: 'REFUSED_THERE' }]);
    await expect(admin.call('startRestore', { body })).rejects.toMatchObject({ code: 'INVALID' });
    expect(fs.readdirSync(`${h.folder}/secret`)).toEqual(['north.txt']);
    expect(fs.readFileSync(`${h.folder}/secret/north.txt`, 'utf8')).toBe('a secret');
  });
});

describe('what a mover keeps for itself', () => {
  it('is no source, is not shown and is no destination, whoever asks', async () => {
    for (const folder of [`${h.folder}/keys`, `${h.folder}/scripts`])
      await expect(admin.call('addSource', { body: { name: 'own', folder } })).rejects.toMatchObject({ code: 'CONNECTION_FAULTY' });
    const { id } = await admin.call('addSource', { body: { name: 'all', folder: h.folder } });
    const { rows } = await admin.call('discover', { id });
    expect(rows.map((r) => r.name)).not.toContain('keys');
    expect(rows.map((r) => r.name)).not.toContain('mover-token');
    for (const path of ['keys', 'store'])
      await expect(admin.call('discover', { id, query: { path } })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
    for (const folder of [
      `${h.folder}/scripts`,
      `${h.folder}/scripts/deep`,
      `${h.folder}/keys`,
      `${h.folder}/store/packs`,
      '/etc/cron.d',
      '/usr/local/bin',
    ])
      await expect(
        admin.call('startRestore', {
          body: { picks: [{ pointId, path: '' }], destination: { to: 'folder', folder }, reason: 'for a test' },
        }),
      ).rejects.toMatchObject({
        code: 'INVALID',
        message: expect.stringMatching(/its own things|a target keeps|folder of the system/) as string,
      });
    await expect(
      admin.call('addTarget', { body: { name: 'own', place: { kind: 'folder', folder: `${h.folder}/keys/store` } } }),
    ).rejects.toMatchObject({ code: 'TARGET_FAULTY' });
    expect(fs.readdirSync(`${h.folder}/scripts`)).toEqual([]);
  });
});

describe('folders of the system of a host that is one source', () => {
  it('get back only what was taken there', async () => {
    const other = await Harness.start({ movers: 0 });
    try {
      const host = `${other.folder}/host`;
      for (const file of ['etc/cron.d/night', 'home/olaf/door']) {
        fs.mkdirSync(path.dirname(`${host}/${file}`), { recursive: true });
        fs.writeFileSync(`${host}/${file}`, file);
      }
      fs.writeFileSync(`${other.folder}/mover.json`, JSON.stringify({ backOnly: [`${host}/etc`] }));
      other.startMover('mover-1');
      const eva = await other.as('administrator');
      const { targetId } = await other.connect(eva);
      const { workloadId } = await eva.call('addSource', { body: { name: 'host', folder: host } });
      const once = { targetId, keep: { by: 'days' as const, days: 3 } };
      await eva.ended((await eva.call('protectOnce', { id: workloadId, body: once })).runId);
      const { id } = (await eva.call('workload', { id: workloadId })).pointList[0]!;
      const restore = (path: string, destination: { to: 'original' } | { to: 'folder'; folder: string; keepPath: boolean }) =>
        eva.call('startRestore', { body: { picks: [{ pointId: id, path }], destination, rule: 'replace', reason: 'for a test' } });
      const cron = { to: 'folder' as const, folder: `${host}/etc/cron.d`, keepPath: false };
      await expect(restore('home/olaf/door', cron)).rejects.toMatchObject({ code: 'INVALID' });
      expect(fs.readdirSync(`${host}/etc/cron.d`)).toEqual(['night']);
      fs.writeFileSync(`${host}/etc/cron.d/night`, 'altered');
      for (const destination of [{ to: 'original' as const }, cron]) {
        const { runId } = await restore('etc/cron.d/night', destination);
        expect((await eva.ended(runId)).state).toBe('done');
        expect(fs.readFileSync(`${host}/etc/cron.d/night`, 'utf8')).toBe('etc/cron.d/night');
      }
    } finally {
      await other.stop();
    }
  });
});
