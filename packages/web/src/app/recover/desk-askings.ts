import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { Answered, Asking } from '@lithodex/contract';
import type { Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { missedRules, type MissedRule } from './missing-look';

const shownItems = 5;
const shownRows = 8;
const order: Readonly<Record<Asking['state'], number>> = { asked: 0, sent: 1, agreed: 2, refused: 2, withdrawn: 3, ended: 3 };

/** Links to people who miss something: sent, answered, agreed to. */
@Component({
  selector: 'lx-desk-askings',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, Slot, StateMark, ...formatPipes],
  templateUrl: './desk-askings.html',
  styleUrls: ['./desk.scss', './desk-askings.scss'],
})
export class DeskAskings {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  readonly workloadId = input.required<number | null>();
  readonly name = input.required<string>();
  /** Where mail for them goes; '' for nowhere. */
  readonly address = input.required<string>();
  private readonly told = toSignal(
    this.live.reloading(
      () => this.api.call('askings').pipe(outcome<Answered<'askings'>>()),
      (e) => e.kind === 'asking' || e.kind === 'run',
    ),
  );
  protected readonly rows = computed(() =>
    (this.told()?.value?.rows ?? [])
      .filter((r) => r.askedAt !== null || r.state === 'sent')
      .sort((a, b) => order[a.state] - order[b.state] || b.madeAt - a.madeAt)
      .slice(0, shownRows),
  );
  protected readonly shownItems = shownItems;
  protected readonly sending = signal(false);
  protected readonly hours = signal(72);
  protected readonly note = signal('');
  protected readonly sent = signal<{ readonly address: string; readonly path: string; readonly trouble: string } | undefined>(undefined);
  protected readonly refusing = signal<number | undefined>(undefined);
  protected readonly why = signal('');
  protected readonly rule = signal<MissedRule>('leave');
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected readonly ends: SlotOption<number>[] = [
    { value: 8, label: '8 hours' },
    { value: 24, label: 'a day' },
    { value: 72, label: '3 days' },
    { value: 168, label: 'a week' },
  ];
  protected readonly rules = missedRules;

  protected send(): void {
    const workloadId = this.workloadId();
    if (workloadId === null) return;
    this.sent.set(undefined);
    const address = this.address();
    this.act(this.api.call('sendAsking', { body: { workloadId, hours: this.hours(), note: this.note() } }), ({ path, trouble }) => {
      this.sending.set(false);
      this.note.set('');
      this.sent.set({ address, path: `${location.origin}${path}`, trouble });
    });
  }

  /** What is decided about is what is shown: who asked may have chosen anew meanwhile. */
  protected agree({ id, askedAt }: Asking): void {
    this.act(this.api.call('agreeToAsking', { id, body: { askedAt: askedAt ?? 0, rule: this.rule() } }));
  }

  protected refuse({ id, askedAt }: Asking): void {
    this.act(this.api.call('refuseAsking', { id, body: { askedAt: askedAt ?? 0, why: this.why() } }), () => {
      this.refusing.set(undefined);
      this.why.set('');
    });
  }

  protected withdraw({ id }: Asking): void {
    this.act(this.api.call('withdrawAsking', { id }));
  }

  private act<T>(call: Observable<T>, then?: (answer: T) => void): void {
    this.busy.set(true);
    this.problem.set('');
    call.subscribe({
      next: (answer) => {
        this.busy.set(false);
        then?.(answer);
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(failure.message);
      },
    });
  }
}
