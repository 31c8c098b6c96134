import { signal } from '@angular/core';
import { startWith, Subject, type Observable } from 'rxjs';
import type { ApiFailure } from './api';

/** What somebody does on a page: what went wrong is said, and after an act that went well the page asks again for what it shows. */
export class Acts {
  private readonly ended = new Subject<void>();
  /** After every act. */
  readonly done = this.ended.asObservable();
  /** At first, and after every act. */
  readonly changed = this.done.pipe(startWith(undefined));
  readonly problem = signal('');

  run<T>(call: Observable<T>, then: (answer: T) => void = () => undefined): void {
    this.problem.set('');
    call.subscribe({
      next: (answer) => {
        then(answer);
        this.again();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }

  again(): void {
    this.ended.next();
  }
}
