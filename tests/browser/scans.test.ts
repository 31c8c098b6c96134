import fs from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Visitor } from '../support/browser';
import { Harness, policyFor } from '../support/harness';

let h: Harness;
let eva: Visitor;

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  const admin = await h.withToken('administrator');
  const { source, workloadId, targetId } = await h.connect(admin);
  for (let i = 0; i < 12; i++) fs.writeFileSync(`${source}/sheet-${i}.txt`, `sheet ${i}`);
  const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId) });
  await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
  await admin.ended((await admin.call('startScan', { body: { workloads: [workloadId] } })).runId);
  fs.writeFileSync(`${source}/planted.txt`, 'LITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X, paid by 4000 0000 0000 0002');
  await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
  eva = await Visitor.arrive(h.base);
  await eva.signIn('administrator', 'correct horse administrator');
});
afterAll(async () => {
  await eva.leave();
  await h.stop();
});

describe('scans', () => {
  it('are asked for, name what they find, and lead to the last clean point', async () => {
    await eva.open('/trust/scans');
    await eva.sees('not scanned');
    await eva.press('When to scan');
    await eva.page.click('input[name=sensitive]');
    await eva.press('Scan so from now on');
    await eva.sees('sensitive data is looked for as well');
    await eva.press('Scan the newest point of 1 workload');
    await eva.sees('harmless_sample');
    await eva.sees('infected');
    await eva.open('/watch');
    await eva.sees('Something infected is in quay-1');
    await eva.press('The last clean point');
    await eva.sees('scanned clean by the rules of');
  });

  it('have rules of our own, which are tried before they are put in force', async () => {
    await eva.open('/trust/scans');
    await eva.press('Rules');
    await eva.press('Add rules');
    await eva.type('Name', 'Sheets');
    await eva.page.type('textarea[name=sample]', 'what gives it away');
    await eva.sees('finds name_of_it');
    await eva.press('Put in force');
    await eva.sees('version 1');
  });

  it('tell where sensitive data lies, which is read uncovered with a reason', async () => {
    await eva.open('/trust/sensitive');
    await eva.sees('card numbers');
    await eva.press('Read uncovered');
    await eva.page.type('input[name=reason]', 'the auditors ask');
    await eva.press('Read them');
    await eva.sees('4000 0000 0000 0002');
    expect(await eva.page.$$eval('lx-form-dialog li', (rows) => rows.length)).toBe(1);
  });
});
