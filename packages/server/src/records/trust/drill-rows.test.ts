import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { evidenceSum, passedOf, type DrillEvidence } from './drill-rows';

const id = '00000000-0000-4000-8000-000000000001';
const evidence: DrillEvidence = {
  workload: 'berths-a',
  pointId: '00000000-0000-4000-8000-000000000002',
  pointMoment: 1000,
  at: 2000,
  by: 'eva.vind',
  mover: 'quay-mover',
  room: 'a folder of the mover',
  objective: 60,
  usableMs: 4000,
  items: 3,
  bytes: 900,
  left: '',
  steps: [{ name: 'restoring', ms: 3000 }],
  results: [{ what: 'Everything comes back', found: '3 items', passed: true }],
};

describe('the sum of evidence', () => {
  it('is the same however it was kept', () => {
    const again = JSON.parse(JSON.stringify(evidence)) as DrillEvidence;
    const turned = Object.fromEntries(Object.entries(again).reverse()) as unknown as DrillEvidence;
    expect(evidenceSum(id, turned)).toBe(evidenceSum(id, evidence));
  });

  it('is another one for whatever is changed in it', () => {
    const sum = evidenceSum(id, evidence);
    const changed: Partial<DrillEvidence>[] = [
      { workload: 'berths-b' },
      { pointId: id },
      { pointMoment: 1001 },
      { at: 2001 },
      { by: '' },
      { mover: 'other' },
      { room: '' },
      { objective: null },
      { usableMs: null },
      { items: 2 },
      { bytes: 901 },
      { left: 'a folder' },
      { steps: [] },
      { results: [{ ...evidence.results[0]!, passed: false }] },
      { results: [{ ...evidence.results[0]!, found: '4 items' }] },
    ];
    for (const more of changed) expect(evidenceSum(id, { ...evidence, ...more }), JSON.stringify(more)).not.toBe(sum);
    expect(evidenceSum(evidence.pointId, evidence)).not.toBe(sum);
  });

  it('does not run texts into one another', () => {
    const Text = fc.string({ maxLength: 8, unit: 'binary' });
    fc.assert(
      fc.property(Text, Text, Text, Text, (what, found, otherWhat, otherFound) => {
        const of = (w: string, f: string) => evidenceSum(id, { ...evidence, results: [{ what: w, found: f, passed: true }] });
        expect(of(what, found) === of(otherWhat, otherFound)).toBe(what === otherWhat && found === otherFound);
      }),
    );
  });
});

describe('a drill', () => {
  it('passed where all that was looked at was so', () => {
    const results = (...passed: boolean[]) => ({ results: passed.map((p) => ({ what: 'a', found: 'b', passed: p })) });
    expect(passedOf(results(true, true))).toBe(true);
    expect(passedOf(results(true, false))).toBe(false);
  });
});
