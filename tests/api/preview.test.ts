import fs from 'node:fs';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let pointId: string;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  const { source, workloadId, targetId } = await h.connect(admin);
  fs.writeFileSync(`${source}/page.html`, '<script>fetch("//127.0.0.1:9")</script>');
  fs.writeFileSync(`${source}/broken.pdf`, '%PDF-1.4 and nothing else');
  const policy = await admin.call('addPolicy', { body: policyFor([workloadId], targetId) });
  await admin.ended((await admin.call('runPolicy', { id: policy.id, body: {} })).runId);
  pointId = (await admin.call('workload', { id: workloadId })).pointList[0]!.id;
}, 60_000);
afterAll(() => h.stop());

it('what would run somewhere is shown as text, and what can not be opened says why', async () => {
  const look = (path: string) => admin.call('preview', { id: pointId, query: { path } });
  const page = await admin.fetch('preview', { id: pointId, query: { path: 'page.html' } });
  expect(page.headers.get('content-type')).toContain('application/json');
  expect(await look('page.html')).toMatchObject({ as: 'text', of: '', text: '<script>fetch("//127.0.0.1:9")</script>' });
  const pdf = await look('broken.pdf');
  expect(pdf).toMatchObject({ as: 'text', of: '' });
  const trail = await admin.call('audit', { query: { limit: 5 } });
  expect(trail.rows.filter((r) => r.action === 'item.preview').length).toBeGreaterThanOrEqual(2);
});
