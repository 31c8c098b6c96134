import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import type { Actor } from '../../base/http/access';
import { MoverLine } from './mover-line';

const second = 1000;
const question = { ask: 'attached', taskId: 'a' } as const;
const mover = { tokenId: 7, role: 'mover', duties: ['capture', 'keep', 'prune'], systems: null } as unknown as Actor;
const never = new AbortController().signal;

beforeEach(() => {
  vi.useFakeTimers();
});
afterEach(() => {
  vi.useRealTimers();
});

/** What becomes of a question, once it becomes something. */
function asking(line: MoverLine, timeoutMs: number): { after: () => Promise<string> } {
  let end = 'open';
  line.ask(question, timeoutMs).then(
    () => (end = 'answered'),
    (error: unknown) => (end = (error as { code: string }).code),
  );
  return {
    after: async () => {
      await vi.advanceTimersByTimeAsync(0);
      return end;
    },
  };
}

describe('a question to the movers', () => {
  it('is given up as soon as it is known that no mover is there, however long an answer may take', async () => {
    const asked = asking(new MoverLine(), 600 * second);
    await vi.advanceTimersByTimeAsync(24 * second);
    expect(await asked.after()).toBe('open');
    await vi.advanceTimersByTimeAsync(2 * second);
    expect(await asked.after()).toBe('MOVER_ABSENT');
  });

  it('waits for a mover that took it, until the answer is overdue', async () => {
    const line = new MoverLine();
    const asked = asking(line, 60 * second);
    expect(await line.next('quay', mover, never)).toMatchObject({ question });
    await vi.advanceTimersByTimeAsync(59 * second);
    expect(await asked.after()).toBe('open');
    await vi.advanceTimersByTimeAsync(second);
    expect(await asked.after()).toBe('MOVER_ABSENT');
  });

  it('is given up at once where the server stops, also one that a mover took, and none is asked any more', async () => {
    const line = new MoverLine();
    const taken = asking(line, 600 * second);
    await line.next('quay', mover, never);
    const waits = asking(line, 600 * second);
    line.close();
    expect([await taken.after(), await waits.after()]).toEqual(['MOVER_FAILED', 'MOVER_FAILED']);
    expect(await asking(line, 600 * second).after()).toBe('MOVER_FAILED');
  });

  it('waits for a mover that is there and busy with another', async () => {
    const line = new MoverLine();
    asking(line, 600 * second);
    await line.next('quay', mover, never);
    await vi.advanceTimersByTimeAsync(20 * second);
    const later = asking(line, 600 * second);
    await vi.advanceTimersByTimeAsync(4 * second);
    expect(await later.after()).toBe('open');
    const taken = await line.next('quay', mover, never);
    line.answer(taken!.id, mover, true, null);
    expect(await later.after()).toBe('answered');
  });

  it('is not put at all while nobody is there', async () => {
    const line = new MoverLine();
    await vi.advanceTimersByTimeAsync(26 * second);
    expect(await asking(line, 600 * second).after()).toBe('MOVER_ABSENT');
  });
});
