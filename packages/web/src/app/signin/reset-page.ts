import { ChangeDetectionStrategy, Component, inject, input, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import { Api, type ApiFailure } from '../data/api';
import { Brand } from '../shell/brand';
import { Focus } from '../ui/focus';

/** Where a link leads that an administrator made for somebody who forgot their password. */
@Component({
  selector: 'lx-reset-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, Brand, Focus],
  template: `<main>
    <section class="sheet">
      <lx-brand />
      @if (done()) {
        <p class="m-0">The new password is in force. Everywhere else you were signed out.</p>
        <a class="act go" routerLink="/sign-in">Sign in</a>
      } @else {
        <form (ngSubmit)="go()">
          <p class="m-0">Choose a new password. Some unusual words in a row make a good one.</p>
          <label
            >New password, at least 12 characters<input
              class="field"
              name="password"
              type="password"
              autocomplete="new-password"
              [(ngModel)]="password"
              required
              lxFocus
          /></label>
          @if (problem()) {
            <div class="problem" role="alert">{{ problem() }}</div>
          }
          <button class="act go" type="submit" [disabled]="password.length < 12">Use it from now on</button>
        </form>
      }
    </section>
  </main>`,
  styles:
    'main { height: 100vh; display: grid; place-items: center; } section { width: 340px; padding: 26px 26px 22px; } section, form { display: flex; flex-direction: column; gap: 14px; } label { display: flex; flex-direction: column; gap: 4px; font-size: 12.5px; } .act { justify-content: center; padding: 8px; }',
})
export class ResetPage {
  private readonly api = inject(Api);
  readonly code = input('');
  protected password = '';
  protected readonly done = signal(false);
  protected readonly problem = signal('');

  protected go(): void {
    this.api.call('resetPassword', { body: { code: this.code(), password: this.password } }).subscribe({
      next: () => {
        this.done.set(true);
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
