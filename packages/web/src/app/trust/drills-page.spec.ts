import { describe, expect, it } from 'vitest';
import { day, hour, now, open, words, type Answers } from '../../test/stage';

const id = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
const plan = { checks: [], objective: null, weight: 1 };
const last = (n: number, more: object = {}) => ({
  id: id(n),
  at: now - 2 * day,
  passed: true,
  usableMs: 41_000,
  why: '',
  ...more,
});
const row = (n: number, name: string, more: object = {}) => ({
  id: n,
  name,
  kind: 'files',
  plan,
  newest: { id: id(100 + n), moment: now - hour },
  last: last(n),
  proven: now - 2 * day,
  open: false,
  turn: n,
  cannot: '',
  ...more,
});
const why = 'SELECT COUNT(*) FROM bookings is at least 4: 3';
const drills = {
  settings: { on: true, at: '03:30', nightly: 2, within: 90 },
  next: now + 8 * hour,
  rows: [
    row(3, 'berths-a', {
      kind: 'database',
      plan: {
        checks: [{ check: 'query', database: 'berth_bookings', sql: 'SELECT COUNT(*) FROM bookings', is: 'least', value: '4' }],
        objective: 30,
        weight: 2,
      },
      last: last(3, { passed: false, why }),
    }),
    row(4, 'charts-nas', { last: null, proven: null }),
    row(5, 'gate-01', {
      kind: 'machine',
      last: null,
      proven: null,
      turn: null,
      cannot: 'Its platform is not connected: there is no place to start it.',
    }),
    row(6, 'tide-db', { open: true }),
  ],
  coverage: { of: 4, proven: 2, failed: 1 },
};
const evidence = {
  id: id(3),
  runId: 12,
  workload: { id: 3, name: 'berths-a', kind: 'database' },
  point: { id: id(103), moment: now - 3 * day },
  at: now - 2 * day,
  by: '',
  mover: 'harbour-mover',
  room: 'a database server of the mover',
  passed: false,
  steps: [{ name: 'restoring', ms: 38_000 }],
  usableMs: 41_000,
  objective: 30,
  items: 42,
  bytes: 3_000_000,
  results: [
    { what: 'Everything comes back', found: '42 items', passed: true },
    { what: '<b>SELECT</b> is at least 4', found: '3', passed: false },
  ],
  left: '',
  sum: 'a'.repeat(64),
  audit: 311,
  sealed: true,
};
const setting = (more: Answers = {}) => ({ answers: { listDrills: drills, listDrilled: { rows: [evidence] }, ...more } });

describe('drills', () => {
  it('say how far restores are proven, and why one did not pass', async () => {
    const s = await open('/trust/drills', setting());
    expect(s.text()).toContain('2 of 4 proven in 90 days, 1 did not pass');
    expect(s.text()).toContain('By themselves, 2 workloads a night');
    const rows = s.all('tbody tr').map((r) => words(r));
    expect(rows[0]).toContain(why);
    expect(rows[0]).toContain('41 s of 30 s');
    expect(rows[0]).toContain('one check besides, usable within 30 s, weight 2');
    expect(rows[1]).toContain('being drilled');
    expect(rows[2]).toContain('never');
    expect(rows[3]).toContain('Its platform is not connected');
    await s.until(() => {
      expect(s.text()).toContain('<b>SELECT</b> is at least 4: 3');
    });
  });

  it('begin for those that none ever came to, and for one', async () => {
    const s = await open('/trust/drills', setting({ startDrill: { runId: 44 } }));
    await s.click('Drill the 1 never drilled');
    expect(s.api.last('startDrill')?.body).toEqual({ workloads: [4] });
    await s.until(() => {
      expect(s.text()).toContain('The drill is run 44');
    });
    await s.click(s.one('[aria-label="Drill berths-a"]'));
    expect(s.api.last('startDrill')?.body).toEqual({ workloads: [3] });
    expect(s.all('[aria-label="Drill gate-01"]')).toEqual([]);
  });

  it('are planned: what is looked at, and within what time', async () => {
    const s = await open('/trust/drills', setting({ changeDrillPlan: {} }));
    await s.click(s.one('[aria-label="Plan the drills of charts-nas"]'));
    expect(s.text()).toContain('every file is read again and held against what was stored');
    await s.click('A file');
    await s.type('fieldset input', 'soundings/berth-14.xyz');
    await s.type('[name=within]', '20');
    await s.choose('[name=weight]', '3: 3');
    await s.click('Drill it so');
    expect(s.api.last('changeDrillPlan')?.body).toEqual({
      checks: [{ check: 'file', path: 'soundings/berth-14.xyz', sum: '', holds: '' }],
      objective: 1200,
      weight: 3,
    });
  });

  it('have a rota that says when all have had their turn', async () => {
    const s = await open('/trust/drills', setting({ changeDrillSettings: {} }));
    await s.click('Rota');
    expect(s.text()).toContain('All 4 workloads have had their turn after 2 nights.');
    await s.type('[name=nightly]', '1');
    await s.type('[name=within]', '3');
    expect(s.text()).toContain('after 4 nights, longer than a drill counts: take 2 a night');
    await s.click('Drill so from now on');
    expect(s.api.last('changeDrillSettings')?.body).toEqual({ on: true, at: '03:30', nightly: 1, within: 3 });
  });

  it('leave the acts to those who may', async () => {
    const s = await open('/trust/drills', { ...setting(), role: 'auditor' });
    expect(s.text()).toContain('berths-a');
    expect(s.all('tbody button')).toEqual([]);
    expect(s.text()).not.toContain('Rota');
  });
});

describe('the evidence of a drill', () => {
  it('says what was looked at, and that the audit trail says the same', async () => {
    const s = await open(`/trust/drills/${id(3)}`, { answers: { drillEvidence: evidence } });
    expect(s.text()).toContain('The drill of berths-a did not pass');
    expect(s.text()).toContain('<b>SELECT</b> is at least 4');
    expect(s.text()).toContain('41 s of 30 s allowed');
    expect(s.text()).toContain('the rota');
    expect(s.text()).toContain('This is what entry 311 of the audit trail says');
  });

  it('says where it was changed since', async () => {
    const s = await open(`/trust/drills/${id(3)}`, { answers: { drillEvidence: { ...evidence, sealed: false } } });
    expect(s.text()).toContain('This is not what the audit trail says: it was changed since.');
  });
});
