import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import type { BodyInput, SignInStep } from '@lithodex/contract';
import { catchError, of } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Confirmation } from '../data/confirmation';
import { FormDialog } from '../ui/form-dialog';
import { Focus } from '../ui/focus';
import { SecondFactorForm } from './second-factor';

/** Asks to show once more who one is, before secrets or people are changed. */
@Component({
  selector: 'lx-confirm-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, SecondFactorForm, Focus],
  template: `<lx-form-dialog heading="Show once more who you are" (closed)="confirmation.settle(false)">
    <p class="m-0">This concerns secrets or people. You are not asked again for ten minutes.</p>
    @if (account()?.organisation) {
      <p class="m-0">
        You sign in by the organisation: <a href="/api/v1/session/organisation">sign in there again</a>, then do it once more.
      </p>
    } @else {
      <form (ngSubmit)="send({ by: 'password', password })">
        <label
          >Password<input class="field" type="password" name="password" autocomplete="current-password" [(ngModel)]="password" lxFocus
        /></label>
        <div><button type="submit" class="act go" [disabled]="!password">Go on</button></div>
      </form>
    }
    @if (ways().length) {
      <lx-second-factor [ways]="ways()" (show)="send($event)" />
    }
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
  </lx-form-dialog>`,
  styles:
    'form { display: flex; flex-direction: column; gap: 12px; } label { display: flex; flex-direction: column; gap: 4px; font-size: 12.5px; }',
})
export class ConfirmDialog {
  private readonly api = inject(Api);
  protected readonly confirmation = inject(Confirmation);
  protected readonly account = toSignal(this.api.call('ownAccount').pipe(catchError(() => of(null))));
  protected readonly ways = computed((): SignInStep['ways'] => {
    const a = this.account();
    return [...(a?.code ? (['code'] as const) : []), ...(a?.passkeys.length ? (['passkey'] as const) : [])];
  });
  protected readonly problem = signal('');
  protected password = '';

  protected send(body: BodyInput<'confirm'>): void {
    this.problem.set('');
    this.api.call('confirm', { body }).subscribe({
      next: () => {
        this.confirmation.settle(true);
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
