import { catchError, map, of, type OperatorFunction } from 'rxjs';
import { ApiFailure } from './api';

export interface Outcome<T> {
  readonly value?: T;
  readonly failure?: ApiFailure;
}

/** Turns a failure into a value, so that a stream that reloads goes on after one. */
export function outcome<T>(): OperatorFunction<T, Outcome<T>> {
  return (source) =>
    source.pipe(
      map((value): Outcome<T> => ({ value })),
      catchError((error: unknown) =>
        of<Outcome<T>>({ failure: error instanceof ApiFailure ? error : new ApiFailure('UNEXPECTED', String(error), undefined) }),
      ),
    );
}
