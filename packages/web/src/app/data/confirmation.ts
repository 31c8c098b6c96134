import { Injectable, signal } from '@angular/core';
import { Subject, take, type Observable } from 'rxjs';

/** Asks whoever is signed in to show once more who they are; whoever needs that waits for the answer. */
@Injectable({ providedIn: 'root' })
export class Confirmation {
  private readonly answered = new Subject<boolean>();
  private readonly open = signal(false);
  readonly asked = this.open.asReadonly();

  /** True once they have; false when they would rather not. */
  ask(): Observable<boolean> {
    this.open.set(true);
    return this.answered.pipe(take(1));
  }

  settle(confirmed: boolean): void {
    this.open.set(false);
    this.answered.next(confirmed);
  }
}
