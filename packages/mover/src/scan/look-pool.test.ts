import { describe, expect, it } from 'vitest';
import { shippedRules } from '@lithodex/core';
import { LookPool } from './look-pool';

const sample = 'LITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X';
const mebibyte = 1 << 20;

describe('looking beside what goes on', () => {
  it('tells the same with threads as without', async () => {
    const pool = new LookPool({ rules: shippedRules, sensitive: true });
    const content = () => Buffer.from(`${sample}, paid by 4000 0000 0000 0002`);
    const here = await pool.look(content(), true);
    expect(here).toMatchObject({ finds: [{ rule: 'harmless_sample', within: '' }], counts: [{ pattern: 'card', count: 1 }] });
    await pool.look(Buffer.alloc(9 * mebibyte), true);
    const beside = await Promise.all(Array.from({ length: 9 }, () => pool.look(content(), true)));
    for (const told of beside) expect(told).toEqual(here);
    await pool.close();
  });

  it('looks at windows, which are not opened', async () => {
    const pool = new LookPool({ rules: shippedRules, sensitive: false });
    expect(await pool.look(Buffer.from(`PK\x03\x04 ${sample}`), false)).toMatchObject({
      finds: [{ rule: 'harmless_sample' }],
      notLooked: '',
      sum: '',
    });
    expect((await pool.look(Buffer.from('tides'), true)).sum).toMatch(/^[0-9a-f]{64}$/);
    await pool.close();
  });

  it('has no rules that do not hold', () => {
    expect(() => new LookPool({ rules: [{ name: 'x', text: 'rule a { condition: nothing }' }], sensitive: false })).toThrow();
    expect(() => new LookPool({ rules: [], sensitive: false })).not.toThrow();
  });
});
