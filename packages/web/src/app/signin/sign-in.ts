import { ChangeDetectionStrategy, Component, inject, input, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Router } from '@angular/router';
import type { ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { Brand } from '../shell/brand';

@Component({
  selector: 'lx-sign-in',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Brand],
  template: `<main>
    <form class="sheet" (ngSubmit)="go()">
      <lx-brand />
      <label>Name<input class="field" name="name" autocomplete="username" [(ngModel)]="name" required autofocus /></label>
      <label
        >Password<input class="field" name="password" type="password" autocomplete="current-password" [(ngModel)]="password" required
      /></label>
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <button class="act go" type="submit" [disabled]="busy()">Sign in</button>
    </form>
  </main>`,
  styles: `
    main {
      height: 100vh;
      display: grid;
      place-items: center;
    }
    form {
      width: 320px;
      padding: 26px 26px 22px;
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
  readonly next = input<string>();
  protected name = '';
  protected password = '';
  protected readonly problem = signal('');
  protected readonly busy = signal(false);

  protected go(): void {
    this.busy.set(true);
    this.problem.set('');
    this.session.signIn(this.name, this.password).subscribe({
      next: () => {
        const next = this.next();
        void this.router.navigateByUrl(next?.startsWith('/') && !next.startsWith('//') ? next : '/');
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(failure.message);
      },
    });
  }
}
