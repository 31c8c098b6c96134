import { ChangeDetectionStrategy, Component, inject, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { DomSanitizer } from '@angular/platform-browser';
import type { CodeOffer, SignedIn } from '@lithodex/contract';
import { startRegistration } from '@simplewebauthn/browser';
import { firstValueFrom } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Focus } from '../ui/focus';
import { hasPasskeys } from './second-factor';

/** Sets up a second factor: a code by an authenticator, or a passkey. */
@Component({
  selector: 'lx-enrol',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Focus],
  template: `
    @if (recovery(); as codes) {
      <p class="m-0">
        Keep these {{ codes.length }} recovery codes where you find them without this device. Each works once in the place of a code. They
        are shown now and never again.
      </p>
      <ul class="codes num">
        @for (code of codes; track code) {
          <li>{{ code }}</li>
        }
      </ul>
      <button type="button" class="act go" (click)="leave()">I have kept them</button>
    } @else if (offer(); as o) {
      <p class="m-0">Let an authenticator read this picture, or type the secret into it. Then give the code it shows.</p>
      <img class="picture" [src]="picture()" alt="The secret as a picture for an authenticator" width="180" height="180" />
      <code class="num small">{{ o.secret }}</code>
      <form (ngSubmit)="take()">
        <label
          >Code it shows<input
            class="field num"
            name="code"
            inputmode="numeric"
            autocomplete="one-time-code"
            maxlength="6"
            [(ngModel)]="code"
            required
            lxFocus
        /></label>
        <button class="act go" type="submit" [disabled]="code.trim().length !== 6">Use it from now on</button>
      </form>
    } @else {
      <button type="button" class="act go" (click)="offerCode()">Set up codes by an authenticator</button>
      <form (ngSubmit)="makePasskey()">
        <label>Name of the passkey<input class="field" name="passkey" placeholder="such as: laptop" [(ngModel)]="name" /></label>
        <button type="submit" class="act" [disabled]="!passkeys || !name.trim()">Make a passkey</button>
      </form>
      @if (!passkeys) {
        <p class="mute small m-0">Passkeys work where this page is reached by HTTPS, or as localhost.</p>
      }
    }
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
  `,
  styles:
    ':host, form { display: flex; flex-direction: column; gap: 12px; } label { display: flex; flex-direction: column; gap: 4px; font-size: 12.5px; } .act { justify-content: center; padding: 8px; } .picture { background: #fff; border-radius: 6px; align-self: center; } code { overflow-wrap: anywhere; } .codes { margin: 0; padding: 0; list-style: none; columns: 2; font-size: 14px; line-height: 1.7; }',
})
export class Enrol {
  private readonly api = inject(Api);
  private readonly sanitizer = inject(DomSanitizer);
  /** One is set up; with the answer of signing in where that goes on. */
  readonly done = output<SignedIn | null>();
  protected readonly passkeys = hasPasskeys();
  protected readonly offer = signal<CodeOffer | null>(null);
  protected readonly recovery = signal<readonly string[] | null>(null);
  protected readonly problem = signal('');
  private signedIn: SignedIn | null = null;
  protected code = '';
  protected name = '';
  private readonly failed = (f: ApiFailure) => {
    this.problem.set(f.message);
  };

  /** A picture in an image runs nothing, whatever is in it. */
  protected picture() {
    return this.sanitizer.bypassSecurityTrustUrl(`data:image/svg+xml;base64,${btoa(this.offer()?.picture ?? '')}`);
  }

  protected offerCode(): void {
    this.problem.set('');
    this.api.call('offerCode').subscribe({ next: (o) => this.offer.set(o), error: this.failed });
  }

  protected take(): void {
    this.problem.set('');
    this.api.call('takeCode', { body: { code: this.code.trim() } }).subscribe({
      next: ({ recovery, signedIn }) => {
        this.signedIn = signedIn;
        this.recovery.set(recovery);
      },
      error: this.failed,
    });
  }

  protected leave(): void {
    this.done.emit(this.signedIn);
  }

  protected async makePasskey(): Promise<void> {
    this.problem.set('');
    try {
      const options = await firstValueFrom(this.api.call('offerPasskey'));
      const response = await startRegistration({ optionsJSON: options as never });
      const { signedIn } = await firstValueFrom(
        this.api.call('takePasskey', { body: { name: this.name.trim(), response: { ...response } } }),
      );
      this.done.emit(signedIn);
    } catch (error) {
      this.problem.set((error as ApiFailure).code && error instanceof Error && 'details' in error ? error.message : 'No passkey was made.');
    }
  }
}
