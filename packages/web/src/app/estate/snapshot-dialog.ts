import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, output, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router } from '@angular/router';
import type { Answered, Point } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Certain } from '../ui/certain';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';

/** Stores a machine of a snapshot that its storage keeps on a target, or has the storage let it go. */
@Component({
  selector: 'lx-snapshot-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Certain, FormDialog, ...formatPipes],
  template: `@if (act() === 'copy') {
      <lx-form-dialog heading="Copy to a target" (closed)="closed.emit()">
        <p class="m-0">
          The machine is stored as it was at {{ point().moment | moment }}, as after a loss of power. It stays when {{ storage() }} lets the
          snapshot go, and can be brought back whole.
        </p>
        <label
          >Target
          <select class="field" name="target" [(ngModel)]="targetId">
            @for (t of targets(); track t.id) {
              <option [value]="t.id">{{ t.name }}</option>
            }
          </select></label
        >
        <label class="row-line"
          >kept for
          <input class="field" style="width: 80px" type="number" min="1" name="days" aria-label="Days" [(ngModel)]="days" /> days</label
        >
        <label>Why <input class="field w-100" name="why" [(ngModel)]="reason" placeholder="before the upgrade" /></label>
        @if (problem()) {
          <div class="problem" role="alert">{{ problem() }}</div>
        }
        <div><button type="button" class="act go" [disabled]="!targetId()" (click)="copy()">Copy it</button></div>
      </lx-form-dialog>
    } @else {
      <lx-certain
        heading="Let the snapshot go"
        [effect]="
          'The storage ' + storage() + ' removes it for all machines on it, not for this one alone. What was copied to a target stays.'
        "
        act="Let it go"
        [problem]="problem()"
        (done)="remove()"
        (closed)="closed.emit()"
      />
    }`,
})
export class SnapshotDialog {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  readonly act = input.required<'copy' | 'letGo'>();
  readonly point = input.required<Point>();
  readonly closed = output();
  protected readonly storage = computed(() => this.point().onStorage?.storage ?? '');
  private readonly listed = toSignal(this.api.call('listTargets').pipe(outcome<Answered<'listTargets'>>()));
  protected readonly targets = computed(() => this.listed()?.value?.rows ?? []);
  protected readonly targetId = linkedSignal(() => this.targets()[0]?.id ?? '');
  protected readonly problem = signal('');
  protected days = 30;
  protected reason = '';

  private readonly failed = (failure: ApiFailure) => {
    this.problem.set(failure.message);
  };

  protected copy(): void {
    const days = Number(this.days);
    const body = { targetId: this.targetId(), days: days > 0 ? days : null, reason: this.reason };
    this.api.call('copySnapshot', { id: this.point().id, body }).subscribe({
      next: ({ runId }) => void this.router.navigate(['/runs', runId]),
      error: this.failed,
    });
  }

  protected remove(): void {
    this.api.call('removeSnapshot', { id: this.point().id }).subscribe({
      next: () => {
        this.closed.emit();
      },
      error: this.failed,
    });
  }
}
