import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Router } from '@angular/router';
import type { TargetDetail } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

/** How often a store can be read, minutes. */
export const followEvery = [5, 15, 30, 60, 240, 1440].map((minutes) => ({
  minutes,
  words:
    minutes < 60
      ? `every ${minutes} minutes`
      : minutes === 60
        ? 'every hour'
        : minutes === 1440
          ? 'once a day'
          : `every ${minutes / 60} hours`,
}));

/** That another installation owns a store or follows it, how far behind this one is, and how to take it over. */
@Component({
  selector: 'lx-other-owner',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, StateMark, ...formatPipes],
  styles:
    ':host { display: block; } .box { padding: 12px 16px; } select { width: auto; flex: none; padding-right: 34px; } form { display: flex; flex-direction: column; gap: 12px; } label { font-weight: 600; }',
  template: `
    @let t = target();
    <div class="sheet box row-line">
      @if (t.follows; as f) {
        <lx-mark state="look" />
        <span>
          It belongs to another installation and is followed from here: nothing is written.
          @if (f.readAt !== null) {
            Read {{ f.readAt | ago }}, the newest point there is of {{ f.newest | moment }}.
          } @else {
            It was not read whole yet.
          }
        </span>
      } @else if (t.ownedElsewhere !== null) {
        <lx-mark state="fault" />
        <span>Another installation owns it since {{ t.ownedElsewhere | moment }}: nothing is written from here any more.</span>
      } @else {
        <lx-mark state="fine" />
        <span>{{ followers() }}</span>
      }
      <span class="grow"></span>
      @if (session.keeps() && !ours()) {
        <select
          class="field"
          name="every"
          aria-label="How often it is read"
          [ngModel]="t.follows?.every ?? 0"
          (ngModelChange)="follow($event)"
        >
          @if (!t.follows) {
            <option [ngValue]="0">not followed</option>
          }
          @for (e of choices(); track e.minutes) {
            <option [ngValue]="e.minutes">{{ e.words }}</option>
          }
        </select>
        @if (t.follows) {
          <button type="button" class="act" (click)="stopped.emit()">Stop following</button>
        }
        <button type="button" class="act go" (click)="taking.set(true)">Take it over</button>
      }
    </div>
    @if (problem() && !taking()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
    @if (taking()) {
      <lx-form-dialog [heading]="'Take over ' + t.name" (closed)="taking.set(false)">
        <form (ngSubmit)="own()">
          <p class="m-0">
            This installation owns the store from then on. The other one is refused at its next write, whether it still runs or not; what it
            is writing just now is not committed. It can go on reading, and take the store back the same way.
          </p>
          <p class="m-0">
            {{ points() }}. What the other installation protected after that is not in the store, and is lost if it is gone. Nothing is run
            here until its settings are taken, or policies are made.
          </p>
          <label>Why<input class="field" name="reason" [(ngModel)]="reason" required minlength="3" maxlength="500" /></label>
          @if (problem()) {
            <div class="problem" role="alert">{{ problem() }}</div>
          }
          <div><button type="submit" class="act go" [disabled]="reason().trim().length < 3">Take it over</button></div>
        </form>
      </lx-form-dialog>
    }
  `,
})
export class OtherOwner {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  readonly target = input.required<TargetDetail>();
  /** It is to be followed no more. */
  readonly stopped = output();
  protected readonly problem = signal('');
  protected readonly taking = signal(false);
  protected readonly reason = signal('');
  protected readonly ours = computed(() => !this.target().follows && this.target().ownedElsewhere === null);
  protected readonly choices = computed(() => {
    const every = this.target().follows?.every;
    const known = every === undefined || followEvery.some((e) => e.minutes === every);
    return known ? followEvery : [{ minutes: every, words: `every ${every} minutes` }, ...followEvery];
  });
  protected readonly followers = computed(() => {
    const { followed } = this.target();
    const many = followed.length === 1 ? 'Another installation follows' : `${followed.length} other installations follow`;
    return `${many} this store and ${followed.length === 1 ? 'reads' : 'read'} it without writing.`;
  });
  protected readonly points = computed(() => {
    const { points } = this.target();
    return points
      ? `${countOf(points, 'point')} of the store ${points === 1 ? 'is' : 'are'} known here`
      : 'No point of it is known here yet';
  });

  private readonly failed = (f: ApiFailure) => {
    this.problem.set(f.message);
  };

  protected follow(every: number): void {
    this.problem.set('');
    this.api.call('setFollowing', { id: this.target().id, body: { every } }).subscribe({ error: this.failed });
  }

  protected own(): void {
    this.problem.set('');
    this.api.call('ownTarget', { id: this.target().id, body: { reason: this.reason() } }).subscribe({
      next: ({ runId }) => {
        this.taking.set(false);
        if (runId !== null) void this.router.navigate(['/runs', runId]);
      },
      error: this.failed,
    });
  }
}
