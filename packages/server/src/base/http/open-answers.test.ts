import { describe, expect, it } from 'vitest';
import { OpenAnswers } from './open-answers';

describe('answers that are open', () => {
  it('are waited for, also those that fail, and not longer than said', async () => {
    const answers = new OpenAnswers();
    const seen: string[] = [];
    const late = (ms: number, name: string, fails = false) =>
      new Promise<string>((resolve, reject) =>
        setTimeout(() => {
          seen.push(name);
          if (fails) reject(new Error(name));
          else resolve(name);
        }, ms),
      );
    const first = answers.follow(late(5, 'first'));
    const second = answers.follow(late(10, 'second', true));
    second.catch(() => undefined);
    await answers.ended(5000);
    expect(seen).toEqual(['first', 'second']);
    expect(await first).toBe('first');
    await expect(second).rejects.toThrow('second');

    void answers.follow(new Promise(() => undefined));
    await answers.ended(1);
  });
});
