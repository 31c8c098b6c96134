import { ChangeDetectionStrategy, Component, computed, inject, output, signal } from '@angular/core';
import { moverDuties } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { dutyWords } from './duty-words';

/** A code by which one mover may come in. */
@Component({
  selector: 'lx-invite-mover',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormDialog, ...formatPipes],
  template: `<lx-form-dialog heading="Let a mover in" (closed)="closed.emit()">
    @if (invited(); as i) {
      <p class="m-0">On the host of the mover, until {{ i.until | moment }}, once:</p>
      <pre class="num">{{ command() }}</pre>
      <p class="small mute m-0">
        The code is shown only now. The mover trades it for a token of its own, which it keeps in the file; later starts need no code.
        @if (readsOnly()) {
          Name it as the reader of its sources afterwards. A mover that keeps takes what it reads, once that was started with
          <span class="num">--receive</span> and an address at which this one reaches it.
        }
      </p>
    } @else {
      <p class="small mute m-0">
        Started without a code, a mover asks by itself: it then stands under Movers with the number that its host shows, and is let in
        there.
      </p>
      <p class="m-0">It may</p>
      @for (duty of duties; track duty) {
        <label><input type="checkbox" [checked]="chosen().includes(duty)" (change)="toggle(duty)" /> {{ words[duty] }} ({{ duty }})</label>
      }
      <p class="small mute m-0">
        A machine that is only protected needs no more than the first: its mover has no keys, and gives what it reads to one that keeps.
      </p>
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div class="row-line"><button type="button" class="act go" [disabled]="!chosen().length" (click)="invite()">Make a code</button></div>
    }
  </lx-form-dialog>`,
  styles:
    'pre { white-space: pre-wrap; overflow-wrap: anywhere; background: var(--sheet-2); padding: 10px 12px; margin: 0; font-size: 12px; }',
})
export class InviteMover {
  private readonly api = inject(Api);
  readonly closed = output();
  protected readonly duties = moverDuties;
  protected readonly words = dutyWords;
  protected readonly chosen = signal<(typeof moverDuties)[number][]>([...moverDuties]);
  protected readonly invited = signal<{ code: string; until: number } | null>(null);
  protected readonly problem = signal('');
  /** It will have no keys. */
  protected readonly readsOnly = computed(() => !this.chosen().some((duty) => duty !== 'capture'));
  protected readonly command = computed(
    () =>
      `./lithodex mover --server ${location.origin} --token-file token ${this.readsOnly() ? '' : '--keys keys '}--join ${this.invited()?.code ?? ''}`,
  );

  protected toggle(duty: (typeof moverDuties)[number]): void {
    this.chosen.update((list) => (list.includes(duty) ? list.filter((d) => d !== duty) : [...list, duty]));
  }

  protected invite(): void {
    this.problem.set('');
    this.api.call('inviteMover', { body: { duties: this.chosen() } }).subscribe({
      next: (invited) => {
        this.invited.set(invited);
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
