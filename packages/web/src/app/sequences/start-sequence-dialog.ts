import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import type { Answered, SequenceRow } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

/** Says what each step of a sequence would do now, and starts it as it is. */
@Component({
  selector: 'lx-start-sequence-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, StateMark, ...formatPipes],
  template: `<lx-form-dialog [heading]="'Start ' + row().body.name + ' as it is'" (closed)="closed.emit()">
    @if (failure(); as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    }
    @if (steps(); as list) {
      <ol>
        @for (step of list; track $index) {
          <li>
            <b>{{ step.name }}</b>{{ step.place ? ': ' + step.place : '' }}
            @for (m of step.moments; track $index) {
              <span class="num mute">&ngsp;as of {{ m | moment }}</span>
            }
            @for (s of step.says; track $index) {
              <small class="d-block" [class.f]="s.level === 'stop'"><lx-mark [state]="s.level" /> {{ s.text }}</small>
            }
          </li>
        }
      </ol>
      <p class="m-0">
        What is there is written over, and no point of it is taken first. Steps begin by themselves as those before them are back; one that
        fails keeps what comes after it from beginning, until you have it tried again or go on without it.
      </p>
      @if (stopped(); as n) {
        <p class="m-0 w">{{ n }} would fail as things are.</p>
      }
    } @else if (!failure()) {
      <p class="mute m-0" role="status">Looking at each step …</p>
    }
    <form class="row-line" (ngSubmit)="start()">
      <input
        class="field grow"
        name="reason"
        aria-label="Why"
        placeholder="why: it goes into the audit trail"
        required
        [ngModel]="reason()"
        (ngModelChange)="reason.set($event)"
      />
      <button type="submit" class="act go" [class.held]="!ready()" [disabled]="!ready()">{{ act() }}</button>
    </form>
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
  </lx-form-dialog>`,
  styles: 'ol { margin: 0; padding-left: 22px; display: grid; gap: 6px; }',
})
export class StartSequenceDialog {
  private readonly api = inject(Api);
  readonly row = input.required<SequenceRow>();
  readonly begun = output<number>();
  readonly closed = output();
  protected readonly reason = signal('');
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  private readonly look = toSignal(
    toObservable(this.row).pipe(switchMap(({ id }) => this.api.call('lookAtSequence', { id }).pipe(outcome<Answered<'lookAtSequence'>>()))),
  );
  protected readonly failure = computed(() => this.look()?.failure);
  protected readonly steps = computed(() => this.look()?.value?.steps);
  protected readonly stopped = computed(() => {
    const n = (this.steps() ?? []).filter((s) => s.says.some((t) => t.level === 'stop')).length;
    return n ? countOf(n, 'step') : '';
  });
  protected readonly act = computed(() => `Start ${countOf(this.row().body.steps.length, 'restore')}`);
  protected readonly ready = computed(() => this.reason().trim().length >= 3 && !this.busy() && this.steps() !== undefined);

  protected start(): void {
    if (!this.ready()) return;
    this.busy.set(true);
    this.problem.set('');
    this.api.call('startSequence', { id: this.row().id, body: { reason: this.reason().trim() } }).subscribe({
      next: ({ id }) => {
        this.begun.emit(id);
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
