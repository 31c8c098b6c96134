import { describe, expect, it } from 'vitest';
import { auditHash } from './trail';

const row = { at: 5, actor: 'eva', action: 'policy.add', object: 'policy 1', detail: '{}', previous: '0'.repeat(64) };

describe('the hash of an audit row', () => {
  it('changes with every field, also when text moves from one to the next', () => {
    const hashes = [
      row,
      { ...row, at: 6 },
      { ...row, actor: 'evap' },
      { ...row, action: 'policy.end' },
      { ...row, object: 'policy 2' },
      { ...row, detail: '' },
      { ...row, previous: '1'.repeat(64) },
      { ...row, actor: 'ev', action: 'apolicy.add' },
    ].map(auditHash);
    expect(new Set(hashes).size).toBe(hashes.length);
    expect(auditHash({ ...row })).toBe(hashes[0]);
  });
});
