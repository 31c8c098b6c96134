import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { Subject, startWith, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { AtOnce } from '../ui/at-once';

/** How many tasks the installation runs at once, as a sentence that is changed in place. */
@Component({
  selector: 'lx-limit-of-all',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [AtOnce],
  template: `@if (limits()?.value; as now) {
      <span class="small mute nowrap" title="Restores and downloads never wait for the others"
        >At once in all:
        <lx-at-once label="tasks at once in all" [limit]="now.tasks" (limitChange)="set($event)" [disabled]="!session.keeps()"
      /></span>
    }
    @if (problem()) {
      <span class="problem" role="alert">{{ problem() }}</span>
    }`,
})
export class LimitOfAll {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly changed = new Subject<void>();
  protected readonly problem = signal('');
  protected readonly limits = toSignal(
    this.changed.pipe(
      startWith(undefined),
      switchMap(() => this.api.call('limits').pipe(outcome())),
    ),
  );

  protected set(tasks: number | null): void {
    this.problem.set('');
    this.api.call('limitAll', { body: { tasks } }).subscribe({
      next: () => {
        this.changed.next();
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
