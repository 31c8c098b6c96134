import { ChangeDetectionStrategy, Component, computed, inject, output, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { moverDuties, type AskingMover } from '@lithodex/contract';
import { merge, Subject, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { dutyWords } from './duty-words';

const againMs = 5000;
type Duty = (typeof moverDuties)[number];

/** Hosts that want to become movers, each with the number that its own screen shows. */
@Component({
  selector: 'lx-asking-movers',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [StateMark, ...formatPipes],
  template: `@for (m of rows(); track m.id) {
      <section class="sheet">
        <div class="row-line">
          <lx-mark state="look" /><span
            ><b>{{ m.name }}</b> wants to become a mover. It asks from <span class="num">{{ m.address }}</span>, since
            {{ m.askedAt | ago }}.</span
          ><span class="grow"></span
          ><span
            >Its screen must show <b class="num number">{{ m.number }}</b></span
          >
        </div>
        @if (session.keeps()) {
          <div class="row-line">
            <span>It may</span>
            @for (duty of duties; track duty) {
              <label
                ><input type="checkbox" [checked]="chosen().includes(duty)" (change)="toggle(duty)" /> {{ words[duty] }} ({{ duty }})</label
              >
            }
            <span class="grow"></span>
            <button type="button" class="act" (click)="refuse(m)">Not this one</button>
            <button type="button" class="act go" [disabled]="!chosen().length" (click)="admit(m)">
              The numbers are the same: let it in
            </button>
          </div>
        }
      </section>
    }
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }`,
  styles: `
    /* nobody asks: no room is taken */
    :host {
      display: contents;
    }
    section {
      padding: 12px 16px;
      display: flex;
      flex-direction: column;
      gap: 10px;
    }
    .row-line {
      flex-wrap: wrap;
    }
    .number {
      font-size: 1.2em;
    }
  `,
})
export class AskingMovers {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  /** One was let in. */
  readonly admitted = output();
  private readonly again = new Subject<void>();
  private readonly result = toSignal(
    merge(this.again, timer(0, againMs)).pipe(switchMap(() => this.api.call('askingMovers').pipe(outcome<{ rows: AskingMover[] }>()))),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows ?? []);
  protected readonly duties = moverDuties;
  protected readonly words = dutyWords;
  /** A host that is only protected needs no more than to be read. */
  protected readonly chosen = signal<readonly Duty[]>(['capture']);
  protected readonly problem = signal('');

  protected toggle(duty: Duty): void {
    this.chosen.update((list) => (list.includes(duty) ? list.filter((d) => d !== duty) : [...list, duty]));
  }

  protected admit({ id }: AskingMover): void {
    this.decide(this.api.call('admitMover', { id, body: { duties: [...this.chosen()] } }));
  }

  protected refuse({ id }: AskingMover): void {
    this.decide(this.api.call('refuseMover', { id }));
  }

  private decide(deciding: ReturnType<Api['call']>): void {
    this.problem.set('');
    deciding.subscribe({
      next: () => {
        this.again.next();
        this.admitted.emit();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
