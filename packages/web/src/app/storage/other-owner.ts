import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { TargetDetail } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { OwnForm } from './own-form';

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
  imports: [FormsModule, OwnForm, StateMark, ...formatPipes],
  styles: ':host { display: block; } .box { padding: 12px 16px; } select { width: auto; flex: none; padding-right: 34px; }',
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
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
    @if (taking()) {
      <lx-own-form [target]="t" (closed)="taking.set(false)" />
    }
  `,
})
export class OtherOwner {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly target = input.required<TargetDetail>();
  /** It is to be followed no more. */
  readonly stopped = output();
  protected readonly problem = signal('');
  protected readonly taking = signal(false);
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
  private readonly failed = (f: ApiFailure) => {
    this.problem.set(f.message);
  };

  protected follow(every: number): void {
    this.problem.set('');
    this.api.call('setFollowing', { id: this.target().id, body: { every } }).subscribe({ error: this.failed });
  }
}
