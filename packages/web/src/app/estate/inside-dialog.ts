import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { Answered } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { FormDialog } from '../ui/form-dialog';
import { StateMark } from '../ui/state-mark';

/** Gives machines an account of the system inside; each says at once whether it is let in. */
@Component({
  selector: 'lx-inside-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, StateMark],
  template: `<lx-form-dialog [heading]="'Account inside ' + words()" (closed)="closed.emit()">
    <p class="m-0">
      Where no helper is inside, programs are brought to rest under this account before a point is taken. It is tried now, and kept where it
      is let in.
    </p>
    <form class="fields" (ngSubmit)="save()">
      <label>Account <input class="field" name="account" autocomplete="off" [(ngModel)]="account" /></label>
      <label>Password <input class="field" name="password" type="password" autocomplete="new-password" [(ngModel)]="password" /></label>
      <button type="submit" class="act go" [disabled]="busy() || !account().trim() || !password()">
        {{ busy() ? 'Trying …' : 'Try and keep' }}
      </button>
      @if (known() && machines().length === 1) {
        <button type="button" class="act" [disabled]="busy()" (click)="forget()">Forget {{ known() }}</button>
      }
    </form>
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
    @for (row of answers(); track row.workload.id) {
      <div>
        <lx-mark [state]="row.ok ? 'fine' : 'fault'" /> <b>{{ row.workload.name }}</b> {{ row.message }} {{ row.ok ? '' : 'Not kept.' }}
      </div>
    }
  </lx-form-dialog>`,
  styles: `
    .fields {
      display: flex;
      flex-wrap: wrap;
      align-items: end;
      gap: 10px;
    }
    label {
      display: flex;
      flex-direction: column;
      gap: 3px;
      font-size: 13px;
    }
  `,
})
export class InsideDialog {
  private readonly api = inject(Api);
  readonly machines = input.required<readonly { id: number; name: string }[]>();
  /** The account that is kept for the only machine; null for none. */
  readonly known = input<string | null>(null);
  readonly closed = output();
  protected readonly account = signal('');
  protected readonly password = signal('');
  protected readonly busy = signal(false);
  protected readonly problem = signal('');
  protected readonly answers = signal<Answered<'setInside'>['rows']>([]);

  protected words(): string {
    const [first, ...others] = this.machines();
    return others.length ? countOf(others.length + 1, 'machine') : (first?.name ?? '');
  }

  private begin(): void {
    this.busy.set(true);
    this.problem.set('');
    this.answers.set([]);
  }

  private readonly failed = (failure: ApiFailure) => {
    this.busy.set(false);
    this.problem.set(failure.message);
  };

  protected save(): void {
    this.begin();
    const account = { name: this.account().trim(), password: this.password() };
    this.api.call('setInside', { body: { workloads: this.machines().map((m) => m.id), account } }).subscribe({
      next: ({ rows }) => {
        this.busy.set(false);
        this.password.set('');
        this.answers.set(rows);
      },
      error: this.failed,
    });
  }

  protected forget(): void {
    this.begin();
    this.api.call('forgetInside', { id: this.machines()[0]!.id }).subscribe({
      next: () => {
        this.closed.emit();
      },
      error: this.failed,
    });
  }
}
