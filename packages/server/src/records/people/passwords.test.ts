import { expect, it } from 'vitest';
import { hashPassword, passwordFits } from './passwords';

it('fits the right password only, and says nothing about it', async () => {
  const stored = await hashPassword('lanterns at dusk é');
  expect(stored).toMatch(/^scrypt\$32768\$8\$1\$/);
  expect(stored).not.toContain('lanterns');
  expect(await passwordFits('lanterns at dusk e\u0301', stored)).toBe(true);
  expect(await passwordFits('lanterns at dusk', stored)).toBe(false);
  expect(await passwordFits('x', 'broken')).toBe(false);
  expect(await hashPassword('same')).not.toBe(await hashPassword('same'));
});
