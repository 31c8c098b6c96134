import { expect, it } from 'vitest';
import { Secrets } from './secrets';

const secrets = new Secrets('ab'.repeat(32));

it('opens only what was sealed for the same row, with the same key, and was not changed', () => {
  const sealed = secrets.seal('target 1', 'påssword');
  expect(secrets.open('target 1', sealed)).toBe('påssword');
  expect(sealed.includes('ssword')).toBe(false);
  expect(secrets.seal('target 1', 'påssword')).not.toEqual(sealed);
  expect(() => secrets.open('target 2', sealed)).toThrow();
  expect(() => new Secrets('cd'.repeat(32)).open('target 1', sealed)).toThrow();
  for (let at = 0; at < sealed.length; at++) {
    const changed = Buffer.from(sealed);
    changed[at]! ^= 1;
    expect(() => secrets.open('target 1', changed)).toThrow();
  }
});
