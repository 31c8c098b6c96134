import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { SecondFactor, SignInStep } from '@lithodex/contract';
import { startAuthentication } from '@simplewebauthn/browser';
import { firstValueFrom } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Focus } from '../ui/focus';

/** Whether this page can use passkeys: they are for a name, reached by HTTPS, or as localhost. */
export const hasPasskeys = (): boolean =>
  window.isSecureContext && 'PublicKeyCredential' in window && !/^[\d.]+$|^\[/.test(location.hostname);

/** Asks for a second factor, in any of the ways somebody has. */
@Component({
  selector: 'lx-second-factor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Focus],
  template: `
    @if (ways().includes('passkey')) {
      <button type="button" class="act" [class.go]="!ways().includes('code')" [disabled]="!passkeys" (click)="askPasskey()">
        Use a passkey
      </button>
      @if (!passkeys) {
        <p class="mute small m-0">Passkeys work where this page is reached by HTTPS, or as localhost.</p>
      }
    }
    @if (ways().includes('code') && !recovery()) {
      <form (ngSubmit)="show.emit({ by: 'code', code: code.trim() })">
        <label
          >Code of the authenticator<input
            class="field num"
            name="code"
            inputmode="numeric"
            autocomplete="one-time-code"
            maxlength="6"
            [(ngModel)]="code"
            required
            lxFocus
        /></label>
        <button class="act go" type="submit" [disabled]="busy() || code.trim().length !== 6">Go on</button>
      </form>
    }
    @if (recovery()) {
      <form (ngSubmit)="show.emit({ by: 'recovery', code: recoveryCode.trim() })">
        <label
          >Recovery code, good once<input class="field num" name="recovery" autocomplete="off" [(ngModel)]="recoveryCode" required lxFocus
        /></label>
        <button class="act go" type="submit" [disabled]="busy() || recoveryCode.trim().length < 8">Go on</button>
      </form>
    }
    @if (ways().includes('recovery')) {
      <button type="button" class="plain small" (click)="recovery.set(!recovery())">
        {{ recovery() ? 'Show a code of the authenticator' : 'Use a recovery code' }}
      </button>
    }
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
  `,
  styles:
    ':host, form { display: flex; flex-direction: column; gap: 12px; } label { display: flex; flex-direction: column; gap: 4px; font-size: 12.5px; } .act { justify-content: center; padding: 8px; }',
})
export class SecondFactorForm {
  private readonly api = inject(Api);
  readonly ways = input.required<SignInStep['ways']>();
  readonly busy = input(false);
  readonly show = output<SecondFactor>();
  protected readonly passkeys = hasPasskeys();
  protected readonly recovery = signal(false);
  protected readonly problem = signal('');
  protected code = '';
  protected recoveryCode = '';

  protected async askPasskey(): Promise<void> {
    this.problem.set('');
    try {
      const options = await firstValueFrom(this.api.call('askPasskey'));
      const response = await startAuthentication({ optionsJSON: options as never });
      this.show.emit({ by: 'passkey', response: { ...response } });
    } catch (error) {
      this.problem.set((error as ApiFailure).code ? (error as ApiFailure).message : 'No passkey was shown.');
    }
  }
}
