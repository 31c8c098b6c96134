import { describe, expect, it } from 'vitest';
import { day, hour, now, open, words, type Answers } from '../../test/stage';

const id = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
const row = (n: number, name: string, more: object = {}) => ({
  id: n,
  name,
  kind: 'files',
  points: 14,
  verdict: 'clean',
  newest: { id: id(n), moment: now - hour },
  scanned: { at: now - hour, rulesAt: now - 3 * day, notLooked: 0 },
  lastClean: { id: id(n), moment: now - hour, verdict: 'clean' },
  infected: 0,
  suspect: 0,
  unscanned: 0,
  ...more,
});
const scans = {
  settings: { when: 'always', fromScore: 40, again: 'newest', scanner: '', sensitive: true },
  rules: { at: now - 3 * day, on: 4 },
  rows: [
    row(3, 'charts-nas', { verdict: 'infected', infected: 2, lastClean: { id: id(40), moment: now - 5 * day, verdict: 'clean' } }),
    row(4, 'gate-cams', { verdict: 'unscanned', scanned: null, lastClean: null, unscanned: 14 }),
    row(5, 'quay-gate'),
  ],
  newest: { unscanned: 1, nothing: 0, clean: 1, suspect: 0, infected: 1 },
};
const find = {
  sum: 'a'.repeat(64),
  rule: 'ransom_note',
  about: 'a note that asks for money for files',
  grade: 'infected',
  size: 1200,
  firstSeen: now - 3 * day,
  lastSeen: now - hour,
  stillThere: true,
  points: 2,
  places: [
    {
      workload: { id: 3, name: 'charts-nas' },
      path: 'notices/<img src=x>.zip',
      within: 'READ.txt',
      first: { id: id(41), moment: now - 3 * day },
      last: { id: id(3), moment: now - hour },
      points: 2,
    },
  ],
  otherPlaces: 1,
};
const setting = (more: Answers = {}) => ({ answers: { listScans: scans, listFinds: { rows: [find], next: null, total: 1 }, ...more } });

describe('what was scanned', () => {
  it('says of each workload what is known, and where to go back to', async () => {
    const s = await open('/trust/scans', setting());
    expect(s.text()).toContain('1 infected, 1 scanned clean, 1 not scanned');
    expect(s.text()).toContain('Every point is scanned once it stands, sensitive data is looked for as well.');
    const rows = s.all('tbody tr').map((r) => words(r));
    expect(rows[0]).toMatch(/charts-nas .* infected .* 2 of 14/);
    expect(rows[2]).toContain('this one');
    await s.until(() => {
      expect(s.text()).toContain('notices/<img src=x>.zip → READ.txt');
    });
    expect(s.text()).toContain('and 1 place more');
  });

  it('scans what nobody knows anything about, and names the run', async () => {
    const s = await open('/trust/scans', setting({ startScan: { runId: 12 } }));
    await s.click('Scan the newest point of 1 workload');
    expect(s.api.last('startScan')?.body).toEqual({ workloads: [4], from: null, to: null });
    expect(s.text()).toContain('The scan is run 12');
  });

  it('has rules tried on a sample while they are written, and put in force only where they hold', async () => {
    const rules = [
      { id: 1, name: 'Ransom notes', text: 'rule a { condition: false }', on: true, ships: true, version: 1, changedAt: now, by: '' },
    ];
    const s = await open(
      '/trust/scans',
      setting({ listRules: { rows: rules }, tryRules: { problem: { message: 'unknown identifier', line: 3 }, finds: [] } }),
    );
    await s.click('Rules');
    expect(s.text()).toContain('came with the product');
    await s.click('Ransom notes');
    await s.until(() => {
      expect(s.text()).toContain('Line 3: unknown identifier');
    });
    expect(s.button('Put in force').disabled).toBe(true);
  });

  it('is settled in a sentence', async () => {
    const s = await open('/trust/scans', setting({ changeScanSettings: {} }));
    await s.click('When to scan');
    await s.click('Scan so from now on');
    expect(s.api.last('changeScanSettings')?.body).toMatchObject({ when: 'always', again: 'newest', sensitive: true });
  });
});
