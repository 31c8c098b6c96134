import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { SignedIn, SignInStep } from '@lithodex/contract';
import { catchError, of, type Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { Brand } from '../shell/brand';
import { Focus } from '../ui/focus';
import { Enrol } from './enrol';
import { SecondFactorForm } from './second-factor';

@Component({
  selector: 'lx-sign-in',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, Brand, Enrol, SecondFactorForm, Focus],
  template: `<main>
    <section class="sheet">
      <lx-brand />
      @switch (at()?.step) {
        @case ('second') {
          <p class="m-0">Show a second factor.</p>
          <lx-second-factor [ways]="at()!.ways" [busy]="busy()" (show)="goOn(api.call('showSecond', { body: $event }))" />
        }
        @case ('enrol') {
          <p class="m-0">Your role needs a second factor. Set one up, so that a password alone lets nobody in.</p>
          <lx-enrol (done)="enrolled($event)" />
        }
        @case ('password') {
          <form (ngSubmit)="goOn(api.call('choosePassword', { body: { password: fresh } }))">
            <p class="m-0">Choose a password that only you know. Some unusual words in a row make a good one.</p>
            <label
              >New password, at least 12 characters<input
                class="field"
                name="fresh"
                type="password"
                autocomplete="new-password"
                minlength="12"
                [(ngModel)]="fresh"
                required
                lxFocus
            /></label>
            <button class="act go" type="submit" [disabled]="busy() || fresh.length < 12">Go on</button>
          </form>
        }
        @default {
          @if (ways()?.nobodyYet) {
            <p class="m-0">
              Nobody has an account here yet. Open the address that was printed where Lithodex was started; it makes you the first
              administrator.
            </p>
          }
          <form (ngSubmit)="go()">
            <label>Name<input class="field" name="name" autocomplete="username" [(ngModel)]="name" required lxFocus /></label>
            <label
              >Password<input class="field" name="password" type="password" autocomplete="current-password" [(ngModel)]="password" required
            /></label>
            <button class="act go" type="submit" [disabled]="busy()">Sign in</button>
          </form>
          @if (ways()?.organisation; as organisation) {
            <a class="act" [href]="'/api/v1/session/organisation?next=' + encoded()">Sign in by {{ organisation }}</a>
          }
          @if (ways()?.selfService) {
            <a class="small" routerLink="/own">Something of yours is missing?</a>
          }
        }
      }
      @if (failed() || problem()) {
        <div class="problem" role="alert">{{ failed() || problem() }}</div>
      }
    </section>
  </main>`,
  styles: `
    main {
      height: 100vh;
      display: grid;
      place-items: center;
    }
    section {
      width: 340px;
      padding: 26px 26px 22px;
    }
    section,
    form {
      display: flex;
      flex-direction: column;
      gap: 14px;
    }
    label {
      display: flex;
      flex-direction: column;
      gap: 4px;
      font-size: 12.5px;
      color: var(--ink-2);
    }
    .act {
      justify-content: center;
      padding: 8px;
    }
  `,
})
export class SignIn {
  private readonly session = inject(Session);
  private readonly router = inject(Router);
  protected readonly api = inject(Api);
  readonly next = input<string>();
  /** What went wrong elsewhere, and the step signing in has come to there. */
  readonly problem = input<string>();
  readonly step = input<SignInStep['step']>();
  protected readonly ways = toSignal(
    this.api.call('signInWays').pipe(catchError(() => of({ organisation: null, selfService: false, nobodyYet: false }))),
  );
  protected name = '';
  protected password = '';
  protected fresh = '';
  protected readonly failed = signal('');
  protected readonly busy = signal(false);
  private readonly reached = signal<SignInStep | null>(null);
  protected readonly at = computed((): SignInStep | null => {
    const step = this.step();
    return this.reached() ?? (step ? { step, ways: ['code', 'passkey', 'recovery'] } : null);
  });
  protected readonly encoded = computed(() => encodeURIComponent(this.where()));

  /** Where one wanted to go, never out of the application. */
  private where(): string {
    const next = this.next();
    return next?.startsWith('/') && !next.startsWith('//') ? next : '/';
  }

  protected go(): void {
    this.goOn(this.api.call('signIn', { body: { name: this.name, password: this.password } }));
  }

  protected enrolled(signedIn: SignedIn | null): void {
    if (signedIn) this.goOn(of(signedIn));
  }

  protected goOn(answer: Observable<SignedIn>): void {
    this.busy.set(true);
    this.failed.set('');
    this.session.step(answer).subscribe({
      next: (step) => {
        this.busy.set(false);
        this.reached.set(step);
        if (!step) void this.router.navigateByUrl(this.where());
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.failed.set(failure.message);
        if (failure.code === 'NOT_SIGNED_IN') this.reached.set(null);
      },
    });
  }
}
