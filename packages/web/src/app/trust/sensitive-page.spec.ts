import { describe, expect, it } from 'vitest';
import { day, drawn, hour, now, open, type Answers } from '../../test/stage';

const patterns = [
  { id: 'card', name: 'card numbers', book: 'Cards', source: 'ISO/IEC 7812-1' },
  { id: 'account', name: 'bank accounts', book: 'Bank accounts', source: 'ISO 13616' },
];
const days = Array.from({ length: 56 }, (_, i) => now - (55 - i) * day);
const told = {
  patterns,
  days,
  lines: [
    { pattern: 'card', findings: days.map((_, i) => (i > 50 ? 900 : 100)) },
    { pattern: 'account', findings: days.map(() => 40) },
  ],
  rows: [
    { workload: { id: 3, name: 'survey-desk' }, pattern: 'card', findings: 800, files: 4, since: null, open: 12 },
    { workload: { id: 4, name: 'harbour-office' }, pattern: 'account', findings: 40, files: 2, since: -3, open: 0 },
  ],
  jump: { at: now - 5 * day, added: 800, workload: { id: 3, name: 'survey-desk' }, pattern: 'card', why: 'newWorkload' },
  on: true,
  looked: 2,
  lookedAt: now - hour,
};
const file = {
  workload: { id: 3, name: 'survey-desk' },
  path: 'lists/<b>crew</b>.csv',
  owner: 'mira',
  readers: 'everybody',
  since: now - 5 * day,
  counts: [{ pattern: 'card', findings: 600, sample: '••••••002' }],
  findings: 600,
};
const setting = (more: Answers = {}) => ({
  answers: { listSensitive: told, sensitiveFiles: { rows: [file], next: null, files: 1, findings: 600 }, ...more },
});

describe('sensitive data', () => {
  it('is told by workload and pattern, with what a rise came of', async () => {
    const s = await open('/trust/sensitive', setting());
    await s.until(() => {
      expect(s.text()).toContain('lists/<b>crew</b>.csv');
    });
    expect(s.text()).toContain(
      'survey-desk was looked into for the first time, so nothing is new in it but our knowledge: 800 findings more',
    );
    expect(s.text()).toContain('12 readable by everybody there');
    expect(s.text()).toMatch(/40 −3/);
    const [, traces, layout] = drawn.at(-1)!;
    expect(traces.map((t) => t.name)).toEqual(['card numbers', 'bank accounts']);
    expect(JSON.stringify(layout)).toContain('+800 in survey-desk');
  });

  it('leads to the files of a workload, by the address', async () => {
    const s = await open('/trust/sensitive', setting());
    await s.click('survey-desk');
    expect(s.url()).toContain('workload=3&pattern=card');
    await s.until(() => {
      expect(s.api.last('sensitiveFiles')?.query).toMatchObject({ workload: 3, pattern: 'card' });
    });
  });

  it('is read uncovered with a reason only', async () => {
    const shown = {
      pointId: '00000000-0000-4000-8000-000000000001',
      moment: now,
      findings: [{ before: 'paid by ', text: '4000 0000 0000 0002', after: '; ' }],
    };
    const s = await open('/trust/sensitive', setting({ showSensitive: shown }));
    await s.until(() => {
      s.button('Read uncovered');
    });
    await s.click('Read uncovered');
    expect(s.button('Read them').disabled).toBe(true);
    await s.type('input[name=reason]', 'the auditors ask');
    await s.click('Read them');
    expect(s.api.last('showSensitive')?.body).toEqual({ workload: 3, path: file.path, pattern: 'card', reason: 'the auditors ask' });
    expect(s.text()).toContain('4000 0000 0000 0002');
  });

  it('says where to switch it on', async () => {
    const s = await open(
      '/trust/sensitive',
      setting({ listSensitive: { ...told, lines: [], rows: [], jump: null, on: false, looked: 0, lookedAt: null } }),
    );
    expect(s.text()).toContain('Sensitive data is not looked for yet.');
  });
});
