import { runInInjectionContext, EnvironmentInjector, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { Subject, of, startWith, throwError, type Observable } from 'rxjs';
import { describe, expect, it } from 'vitest';
import { ApiFailure } from './api';
import { paged } from './paged';

interface Answer {
  readonly rows: readonly string[];
  readonly total: number;
}

function stage(total: number, size: number) {
  const asked: [string, number][] = [];
  const query = signal('a');
  const ticks = new Subject<void>();
  let failing = false;
  const fetch = (q: string, offset: number): Observable<Answer> => {
    asked.push([q, offset]);
    if (failing) return throwError(() => new ApiFailure('UNREACHABLE', 'away', undefined));
    return of({ rows: Array.from({ length: Math.min(size, total - offset) }, (_, i) => `${q}${offset + i}`), total });
  };
  const list = runInInjectionContext(TestBed.inject(EnvironmentInjector), () =>
    paged(size, query, ticks.pipe(startWith(undefined)), fetch),
  );
  TestBed.tick();
  return { list, query, ticks, asked, fail: (on: boolean) => (failing = on), settle: () => TestBed.tick() };
}

describe('a long list', () => {
  it('has as many rows as fit, and fetches those in view once', () => {
    const s = stage(10, 3);
    expect(s.list.rows()).toEqual(['a0', 'a1', 'a2', ...Array.from({ length: 7 })]);
    s.list.see({ start: 4, end: 8 });
    s.settle();
    expect(s.list.rows().slice(3, 9)).toEqual(['a3', 'a4', 'a5', 'a6', 'a7', 'a8']);
    s.list.see({ start: 0, end: 9 });
    s.settle();
    expect(s.asked.map(([, offset]) => offset)).toEqual([0, 3, 6]);
    expect(s.list.answer()?.total).toBe(10);
  });

  it('fetches what is in view again at a tick, and keeps the rest until it is seen', () => {
    const s = stage(10, 3);
    s.list.see({ start: 6, end: 9 });
    s.settle();
    s.asked.length = 0;
    s.ticks.next();
    expect(s.asked).toEqual([['a', 6]]);
    expect(s.list.rows()[0]).toBe('a0');
  });

  it('drops what another query found, and goes on after a failure', () => {
    const s = stage(4, 2);
    s.fail(true);
    s.query.set('b');
    s.settle();
    expect(s.list.failure()?.message).toBe('away');
    s.fail(false);
    s.ticks.next();
    expect(s.list.failure()).toBeUndefined();
    expect(s.list.rows()).toEqual(['b0', 'b1', undefined, undefined]);
  });
});
