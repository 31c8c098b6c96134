import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Router } from '@angular/router';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { Brand } from '../shell/brand';
import { Focus } from '../ui/focus';

/** Where the address leads that was printed when the installation was started first: its first administrator. */
@Component({
  selector: 'lx-begin-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Brand, Focus],
  template: `<main>
    <section class="sheet">
      <lx-brand />
      <form (ngSubmit)="go()">
        <p class="m-0">
          Nobody has an account here yet. You become the first administrator; the address that led you here then works no more. A second
          factor comes next.
        </p>
        <label
          >Your name<input
            class="field"
            name="display"
            autocomplete="name"
            [(ngModel)]="display"
            (ngModelChange)="suggest()"
            required
            lxFocus
        /></label>
        <label
          >Name to sign in with<input
            class="field num"
            name="name"
            autocomplete="username"
            [(ngModel)]="name"
            (ngModelChange)="typed.set(true)"
            required
          /><small class="mute">lower case letters, digits, dots and dashes</small></label
        >
        <label
          >Password, at least 12 characters<input
            class="field"
            name="password"
            type="password"
            autocomplete="new-password"
            [(ngModel)]="password"
            required
          /><small class="mute">Some unusual words in a row make a good one.</small></label
        >
        <label
          >Time zone of this installation<select class="field" name="zone" [(ngModel)]="zone">
            @for (z of zones; track z) {
              <option [value]="z">{{ z }}</option>
            }
          </select></label
        >
        @if (!whole()) {
          <div class="problem" role="alert">This address is not whole. Copy all of what was printed where Lithodex was started.</div>
        }
        @if (problem()) {
          <div class="problem" role="alert">{{ problem() }}</div>
        }
        <button class="act go" type="submit" [disabled]="busy() || !ready()">Begin</button>
      </form>
    </section>
  </main>`,
  styles:
    'main { height: 100vh; overflow: auto; display: grid; place-items: center; } section { width: 380px; padding: 26px 26px 22px; } section, form { display: flex; flex-direction: column; gap: 14px; } label { display: flex; flex-direction: column; gap: 4px; font-size: 12.5px; } .act { justify-content: center; padding: 8px; }',
})
export class BeginPage {
  private readonly api = inject(Api);
  private readonly session = inject(Session);
  private readonly router = inject(Router);
  /** From the address; nothing where it is not whole. */
  readonly code = input<string>();
  protected readonly display = signal('');
  protected readonly name = signal('');
  /** The name to sign in with is their own choice from here on. */
  protected readonly typed = signal(false);
  protected readonly password = signal('');
  private readonly here = Intl.DateTimeFormat().resolvedOptions().timeZone;
  protected readonly zone = signal(this.here);
  protected readonly zones = [...new Set([this.here, 'UTC', ...Intl.supportedValuesOf('timeZone')])];
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  /** The address that led here has a code. */
  protected readonly whole = computed(() => (this.code() ?? '').length >= 20);
  protected readonly ready = computed(
    () => this.whole() && this.display().trim() !== '' && /^[a-z][a-z0-9.-]{1,39}$/.test(this.name()) && this.password().length >= 12,
  );

  /** A name to sign in with from the one they have: "Eva Vind" becomes eva.vind. */
  protected suggest(): void {
    if (this.typed()) return;
    const plain = this.display().normalize('NFKD').toLowerCase().trim();
    this.name.set(
      plain
        .replaceAll(/\s+/g, '.')
        .replaceAll(/[^a-z0-9.-]/g, '')
        .replace(/^[^a-z]+/, '')
        .slice(0, 40),
    );
  }

  protected go(): void {
    this.busy.set(true);
    this.problem.set('');
    const body = {
      code: this.code() ?? '',
      name: this.name(),
      display: this.display().trim(),
      password: this.password(),
      zone: this.zone(),
    };
    this.session.step(this.api.call('makeFirstPerson', { body })).subscribe({
      next: (step) => {
        const next = '/first-steps';
        void (step
          ? this.router.navigate(['/sign-in'], { queryParams: { step: step.step, next }, replaceUrl: true })
          : this.router.navigateByUrl(next));
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
