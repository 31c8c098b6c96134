import { computed, signal, type Signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { combineLatest, from, mergeMap, switchMap, tap, type Observable } from 'rxjs';
import type { ApiFailure } from './api';
import { outcome } from './outcome';

/** What an answer of one page needs to have. */
interface Page<R> {
  readonly rows: readonly R[];
  readonly total: number;
}

/** Rows of a list that may be long, fetched page by page as they come into view. */
export interface Paged<P extends Page<unknown>> {
  /** The newest answer; it also carries what is said of the whole list. */
  readonly answer: Signal<P | undefined>;
  readonly failure: Signal<ApiFailure | undefined>;
  /** As many as fit; undefined where a row has not been fetched yet. */
  readonly rows: Signal<readonly (P['rows'][number] | undefined)[]>;
  /** Says which rows are in view. */
  readonly see: (range: { readonly start: number; readonly end: number }) => void;
}

interface Fetched<Q, R> {
  readonly query: Q;
  readonly total: number;
  readonly pages: ReadonlyMap<number, readonly R[]>;
}

/**
 * Fetches the pages in view whenever the query changes or `ticks` emits; what was fetched before of the same query stays until then.
 * Called where signals may be made from observables.
 */
export function paged<Q, P extends Page<unknown>>(
  size: number,
  query: Signal<Q>,
  ticks: Observable<unknown>,
  fetch: (query: Q, offset: number) => Observable<P>,
): Paged<P> {
  type R = P['rows'][number];
  const seen = signal({ first: 0, last: 0 }, { equal: (a, b) => a.first === b.first && a.last === b.last });
  const fetched = signal<Fetched<Q, R> | undefined>(undefined);
  const seen$ = toObservable(seen);
  const result = toSignal(
    combineLatest([toObservable(query), ticks]).pipe(
      switchMap(([asked]) => {
        const begun = new Set<number>();
        return seen$.pipe(
          mergeMap(({ first, last }) =>
            from(Array.from({ length: last - first + 1 }, (_, i) => first + i).filter((page) => !begun.has(page) && begun.add(page))),
          ),
          mergeMap((page) =>
            fetch(asked, page * size).pipe(
              tap(({ rows, total }) => {
                fetched.update((known) => ({
                  query: asked,
                  total,
                  pages: new Map([...(known?.query === asked ? known.pages : []), [page, rows]]),
                }));
              }),
              outcome<P>(),
            ),
          ),
        );
      }),
    ),
  );
  return {
    answer: computed(() => result()?.value),
    failure: computed(() => result()?.failure),
    rows: computed(() => {
      const known = fetched();
      return Array.from({ length: known?.total ?? 0 }, (_, i) => known?.pages.get(Math.floor(i / size))?.[i % size]);
    }),
    see: ({ start, end }) => {
      seen.set({ first: Math.floor(start / size), last: Math.floor(Math.max(start, end - 1) / size) });
    },
  };
}
