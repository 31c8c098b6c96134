import { TestBed } from '@angular/core/testing';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { Idle } from './idle';

const minute = 60_000;

describe('the pause of a person', () => {
  afterEach(() => {
    vi.useRealTimers();
    localStorage.clear();
  });

  it('is counted from what they did last, in whatever tab', () => {
    vi.useFakeTimers();
    const here = TestBed.inject(Idle);
    const elsewhere = new Idle();
    vi.advanceTimersByTime(30 * minute);
    expect(here.pause()).toBe(30 * minute);
    elsewhere.note();
    vi.advanceTimersByTime(minute);
    expect(here.pause()).toBe(minute);
    here.note();
    expect(elsewhere.pause()).toBe(0);
  });
});
