import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
  await h.moverReady();
});
afterAll(() => h.stop());

const add = (name: string, folder: string) => admin.call('addTarget', { body: { name, place: { kind: 'folder', folder } } });

describe('targets', () => {
  it('are made once for a name and a folder, however the folder is written', async () => {
    await add('north', `${h.folder}/north/`);
    await expect(add('north', `${h.folder}/other`)).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    await expect(add('again', `${h.folder}/north`)).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    await expect(add('again', `${h.folder}/north///`)).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    expect((await admin.call('listTargets')).rows.map((t) => t.place)).toEqual([{ kind: 'folder', folder: `${h.folder}/north` }]);
  });

  it('are refused where a store stands already, where a file stands, and where things lie about', async () => {
    fs.cpSync(`${h.folder}/north`, `${h.folder}/copied`, { recursive: true });
    fs.writeFileSync(`${h.folder}/file`, 'x');
    fs.mkdirSync(`${h.folder}/used`);
    fs.writeFileSync(`${h.folder}/used/letter.txt`, 'mine');
    for (const folder of ['copied', 'file', 'used']) {
      const test = await admin.call('testTarget', { body: { name: 'x', place: { kind: 'folder', folder: `${h.folder}/${folder}` } } });
      expect([folder, test.ok && !test.holdsStore]).toEqual([folder, false]);
      expect(test.message).toMatch(/\.$/);
      await expect(add(`on ${folder}`, `${h.folder}/${folder}`)).rejects.toMatchObject({ code: 'TARGET_FAULTY' });
    }
    expect(fs.readFileSync(`${h.folder}/file`, 'utf8')).toBe('x');
    expect(fs.readdirSync(`${h.folder}/used`)).toEqual(['letter.txt']);
    expect((await admin.call('listTargets')).rows).toHaveLength(1);
  });

  it('test as good where they would be made, without making anything', async () => {
    const test = await admin.call('testTarget', { body: { name: 'x', place: { kind: 'folder', folder: `${h.folder}/deep/new` } } });
    expect(test).toMatchObject({ ok: true, holdsStore: false });
    expect(test.free).toBeGreaterThan(0);
    expect(fs.existsSync(`${h.folder}/deep`)).toBe(false);
  });

  it('say what is wrong when their folder is gone, their key is gone, or the key of another lies there', async () => {
    const { workloadId, source, targetId } = await h.connect(admin);
    fs.writeFileSync(`${source}/a`, 'a');
    const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId) });
    const run = async () => {
      const ended = await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
      return [ended.state, ended.tasks[0]!.cause?.code];
    };
    expect(await run()).toEqual(['done', undefined]);
    const store = `${h.folder}/north`;
    const key = fs
      .readdirSync(`${h.folder}/keys`)
      .filter((f) => f.endsWith('.key'))
      .map((f) => `${h.folder}/keys/${f}`)[0]!;

    fs.renameSync(store, `${store}.away`);
    expect(await run()).toEqual(['failed', 'TARGET_MISSING']);
    await h.server.deps.db('target').update({ measured_at: null });
    await expect.poll(async () => (await admin.call('listTargets')).rows[0]!.trouble, { timeout: 60_000 }).toBeTruthy();
    expect(fs.existsSync(store)).toBe(false);
    fs.renameSync(`${store}.away`, store);

    fs.renameSync(key, `${key}.away`);
    await h.killMover('mover-1');
    h.startMover('mover-1');
    expect(await run()).toEqual(['failed', 'KEY_MISSING']);
    const other = await add('south', `${h.folder}/south`);
    const foreign = fs.readdirSync(`${h.folder}/keys`).find((f) => f.includes(other.id))!;
    fs.copyFileSync(`${h.folder}/keys/${foreign}`, key);
    await h.killMover('mover-1');
    h.startMover('mover-1');
    expect(await run()).toEqual(['failed', 'KEY_WRONG']);

    fs.renameSync(`${key}.away`, key);
    await h.killMover('mover-1');
    h.startMover('mover-1');
    expect(await run()).toEqual(['done', undefined]);
    await h.server.deps.db('target').update({ measured_at: null });
    await expect.poll(async () => (await admin.call('listTargets')).rows.map((t) => t.trouble), { timeout: 60_000 }).toEqual([null, null]);
    expect((await admin.call('workload', { id: workloadId })).pointList).toHaveLength(2);
  });

  it('hand out no envelope for an unknown target or a short passphrase, and none without an entry in the trail', async () => {
    const unknown = admin.call('envelope', { id: '00000000-0000-4000-8000-000000000000', body: { passphrase: 'long enough, surely' } });
    await expect(unknown).rejects.toMatchObject({ status: 404 });
    const { id } = (await admin.call('listTargets')).rows[0]!;
    await expect(admin.call('envelope', { id, body: { passphrase: 'short' } })).rejects.toMatchObject({ code: 'INVALID' });
    const envelope = await admin.call('envelope', { id, body: { passphrase: 'long enough, surely' } });
    expect(envelope.fileName).toBe('north.key-envelope.json');
    expect(envelope.content).not.toContain('long enough');
    const trail = await admin.call('audit', { query: { q: 'envelope' } });
    expect(trail.rows).toMatchObject([{ action: 'target.envelope', actor: 'administrator' }]);
    expect(trail.rows[0]!.detail).not.toContain('long enough');
  });
});
