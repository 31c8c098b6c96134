import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { StoryClock } from './story-clock';

describe('the clock of the story', () => {
  beforeEach(() => {
    vi.useFakeTimers({ now: 1_000_000 });
  });
  afterEach(() => {
    vi.useRealTimers();
  });

  it('runs faster than ours through days gone by, and with ours once it has arrived at today', () => {
    const clock = new StoryClock();
    clock.set(500_000);
    vi.advanceTimersByTime(1000);
    expect(clock.now()).toBe(560_000);
    clock.set(1_001_000, 1);
    vi.advanceTimersByTime(12_000);
    expect(clock.now()).toBe(Date.now());
  });

  it('never goes back', () => {
    const clock = new StoryClock();
    clock.set(500_000);
    expect(() => {
      clock.set(499_999);
    }).toThrow('can not go back');
  });
});
