import { setTimeout as pause } from 'node:timers/promises';
import { describe, expect, it } from 'vitest';
import { Turns } from './turns';

describe('turns', () => {
  it('are taken one after the other for a key, beside those of others, also after one that failed', async () => {
    const turns = new Turns<string>();
    const told: string[] = [];
    const act = (name: string, ms: number) => async () => {
      told.push(`${name} begins`);
      await pause(ms);
      told.push(`${name} ends`);
      if (name === 'a2') throw new Error('no');
      return name;
    };
    const all = await Promise.allSettled([
      turns.run('a', act('a1', 30)),
      turns.run('a', act('a2', 5)),
      turns.run('b', act('b1', 10)),
      turns.run('a', act('a3', 1)),
    ]);
    expect(all.map((r) => r.status)).toEqual(['fulfilled', 'rejected', 'fulfilled', 'fulfilled']);
    expect(told.filter((t) => t.startsWith('a'))).toEqual(['a1 begins', 'a1 ends', 'a2 begins', 'a2 ends', 'a3 begins', 'a3 ends']);
    expect(told.indexOf('b1 begins')).toBeLessThan(told.indexOf('a1 ends'));
    await pause(0);
    expect(turns.busy).toBe(0);
  });
});
