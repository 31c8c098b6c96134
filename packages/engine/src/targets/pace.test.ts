import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { Store } from '../store/store';
import { verify } from '../verify/verify';
import { Pace } from './pace';
import { targetAt } from './target-at';

beforeEach(() => {
  vi.useFakeTimers();
});
afterEach(() => {
  vi.useRealTimers();
});

describe('a pace', () => {
  it('lets no more travel than is allowed, however many take of it', async () => {
    const memory = Pace.memory();
    const threads = [new Pace(memory), new Pace(memory)];
    threads[0]!.set(1_000_000);
    const began = Date.now();
    const taken: number[] = [];
    const all = Promise.all(
      threads.flatMap((pace) =>
        Array.from({ length: 5 }, async () => {
          await pace.take(500_000);
          taken.push(Date.now() - began);
        }),
      ),
    );
    await vi.runAllTimersAsync();
    await all;
    expect(taken).toHaveLength(10);
    for (const [i, ms] of taken.entries()) {
      expect(ms).toBeGreaterThanOrEqual(i * 500);
      expect(ms).toBeLessThan(i * 500 + 300);
    }
  });

  it('costs nothing without a limit, and a limit that is lifted frees who waits', async () => {
    const pace = new Pace(Pace.memory());
    for (let i = 0; i < 100; i++) await pace.take(1e9);
    pace.set(1000);
    await pace.take(1e6);
    const waiting = pace.take(1);
    pace.set(0);
    await vi.advanceTimersByTimeAsync(200);
    await waiting;
    expect(vi.getTimerCount()).toBe(0);
  });
});

describe('a store with a pace', () => {
  it('asks for the turn of every byte of a pack that it writes, and that it reads again to verify', async () => {
    vi.useRealTimers();
    const take = vi.spyOn(Pace.prototype, 'take');
    const asked = async (act: () => Promise<unknown>) => {
      take.mockClear();
      await act();
      return take.mock.calls.reduce((sum, [bytes]) => sum + bytes, 0);
    };
    const folder = temporaryFolder('paced');
    const pace = Pace.memory();
    const store = await Store.create(targetAt({ kind: 'folder', folder, pace }), randomBytes(32), new Date(0));
    const write = async () => {
      const writer = store.writer(store.claims(100).claims);
      for (let pack = 0; pack < 3; pack++) {
        writer.put(randomBytes(200_000));
        await writer.finish();
      }
      await store.index.checkpoint();
    };
    expect(await asked(write)).toBeGreaterThanOrEqual(600_000);
    expect(await asked(() => verify(store, { stopped: () => false }))).toBeGreaterThanOrEqual(600_000);
    take.mockRestore();
    fs.rmSync(folder, { recursive: true });
  });
});
