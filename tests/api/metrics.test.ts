import fs from 'node:fs';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
});
afterAll(() => h.stop());

it('tells monitoring how things stand, names escaped, for whoever may read', async () => {
  const { source, workloadId, targetId } = await h.connect(admin, 'quay-1');
  fs.writeFileSync(`${source}/log`, 'tide');
  await admin.call('addSource', { body: { name: 'odd "name" \\ here', folder: source } });
  const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, {}) });
  await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
  await h.tick();
  await expect.poll(async () => (await admin.call('listTargets')).rows[0]!.used, { timeout: 60_000 }).toBeGreaterThan(0);
  const token = (await admin.call('addToken', { body: { name: 'monitor', role: 'auditor' } })).token;
  const address = `${h.base}/api/v1/metrics`;
  const answer = await fetch(address, { headers: { authorization: `Bearer ${token}` } });
  expect(answer.headers.get('content-type')).toContain('application/openmetrics-text');
  const text = await answer.text();
  const lines = text.split('\n');
  for (const line of [
    '# TYPE lithodex_workloads gauge',
    'lithodex_workloads{coverage="protected"} 1',
    'lithodex_workloads{coverage="none"} 1',
    'lithodex_workloads_late 0',
    'lithodex_runs_ended_last_day{kind="backup",state="done"} 1',
    'lithodex_target_reachable{target="quay-disk"} 1',
    'lithodex_movers 1',
  ])
    expect(lines).toContain(line);
  expect(text).toMatch(/lithodex_newest_point_age_seconds\{workload="quay-1"\} \d/);
  expect(text).not.toContain('workload="odd');
  expect(text).toMatch(/lithodex_target_used_bytes\{target="quay-disk"\} [1-9]/);
  expect(text.trimEnd().endsWith('# EOF')).toBe(true);
  expect((await fetch(address)).status).toBe(401);
});
