import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let own = 0;
let other = 0;
const points: string[] = [];
const rule = (name: string, text = 'berth') => `rule ${name} { strings: $a = "${text}" condition: $a }`;

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0 });
  admin = await h.as('administrator');
  for (const name of ['desk', 'quay']) {
    const { source, workloadId, targetId } = await h.connect(admin, name);
    fs.writeFileSync(`${source}/same.txt`, 'LITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X');
    const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { name }) });
    await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
    points.push((await admin.call('workload', { id: workloadId })).pointList[0]!.id);
    [own, other] = own ? [own, workloadId] : [workloadId, 0];
  }
});
afterAll(() => h.stop());

const names = async () => (await admin.call('listRules')).rows.map((r) => r.name);

describe('rules', () => {
  it('ship, and are kept by name, each change counted', async () => {
    expect(await names()).toEqual(['Backups removed', 'Harmless sample', 'Ransom notes', 'Scripts that hide what they do']);
    const { id } = await admin.call('addRules', { body: { name: 'Berths', text: rule('one') } });
    await expect(admin.call('addRules', { body: { name: 'Berths', text: rule('two') } })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    await admin.call('changeRules', { id, body: { name: 'Berths', text: rule('one', 'quay'), on: true } });
    await admin.call('changeRules', { id, body: { name: 'Quays', text: rule('one', 'quay'), on: true } });
    const row = (await admin.call('listRules')).rows.find((r) => r.id === id);
    expect(row).toMatchObject({ name: 'Quays', version: 2, by: 'administrator', ships: false });
    await admin.call('removeRules', { id });
    await expect(admin.call('removeRules', { id })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });

  it('are refused where they do not hold with those in force, and change nothing', async () => {
    const before = await names();
    const twice = { name: 'Twice', text: rule('harmless_sample') };
    await expect(admin.call('addRules', { body: twice })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(admin.call('addRules', { body: { name: 'Reads', text: 'include "/etc/passwd"' } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    expect(await names()).toEqual(before);
  });

  it('are changed by administrators, started by operators too, and seen by auditors', async () => {
    const auditor = await h.as('auditor');
    expect((await auditor.call('listRules')).rows).toHaveLength(4);
    await expect(auditor.call('startScan', { body: { workloads: [own] } })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    const operator = await h.as('operator');
    await expect(operator.call('addRules', { body: { name: 'x', text: rule('x') } })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await admin.ended((await operator.call('startScan', { body: { workloads: [own, other] } })).runId);
    const { rows } = await auditor.call('listFinds', { query: {} });
    expect(rows).toMatchObject([{ rule: 'harmless_sample', points: 2, places: [{ path: 'same.txt' }, { path: 'same.txt' }] }]);
    expect((await auditor.call('listFinds', { query: { workload: own } })).rows[0]!.places).toHaveLength(1);
    expect((await auditor.call('listFinds', { query: { q: '100%_' } })).rows).toEqual([]);
  });

  it('find the same in two workloads, which is one matter', async () => {
    const { matters } = await admin.call('watch', { query: {} });
    expect(matters.filter((m) => m.title.startsWith('Something infected'))).toMatchObject([
      { title: 'Something infected is in desk, quay', second: null },
    ]);
  });

  it('tell a clerk of points within the remit only', async () => {
    const { db } = h.server.deps;
    await db('person')
      .where({ name: 'clerk' })
      .update({ remit: JSON.stringify([own]) });
    const clerk = await h.as('clerk');
    expect((await clerk.call('pointScan', { id: points[0]! })).verdict).toBe('infected');
    await expect(clerk.call('pointScan', { id: points[1]! })).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    await expect(clerk.call('listScans')).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect(clerk.call('sensitiveFiles', { query: {} })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  });

  it('are not looked by where there is nothing to look for', async () => {
    for (const { id, name, text } of (await admin.call('listRules')).rows)
      await admin.call('changeRules', { id, body: { name, text, on: false } });
    await expect(admin.call('changeScanSettings', { body: { when: 'always' } })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(admin.call('startScan', { body: { workloads: [999_999] } })).rejects.toMatchObject({ code: 'NOT_NOW' });
  });
});
