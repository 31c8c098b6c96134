import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import type { OwnAccount } from '@lithodex/contract';
import { switchMap, type Observable } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { Enrol } from './enrol';

/** How one signs in oneself: password, second factors, and where one is signed in. */
@Component({
  selector: 'lx-account-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, Enrol, ...formatPipes],
  template: `<div class="page scroll" tabindex="0" role="region" aria-label="How you sign in">
      <div class="row-line">
        <h1>How you sign in</h1>
        <span class="mute">{{ session.me()?.display }}, {{ session.me()?.role }}</span>
      </div>
      @if (result()?.failure; as f) {
        <div class="problem" role="alert">{{ f.message }}</div>
      }
      @if (problem() && !open()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      @if (said()) {
        <div class="note" role="status">{{ said() }}</div>
      }
      @if (result()?.value; as a) {
        <div class="three">
          <section class="sheet part">
            <h2>Password</h2>
            @if (a.organisation) {
              <p class="m-0">You sign in by the organisation, which keeps your password and asks for what it wants to.</p>
            } @else {
              <form (ngSubmit)="changePassword()">
                <label
                  >Password you have<input
                    class="field"
                    type="password"
                    name="old"
                    autocomplete="current-password"
                    [(ngModel)]="old"
                    required
                /></label>
                <label
                  >New one, at least 12 characters<input
                    class="field"
                    type="password"
                    name="fresh"
                    autocomplete="new-password"
                    [(ngModel)]="fresh"
                    required
                /></label>
                <div><button type="submit" class="act" [disabled]="!old || fresh.length < 12">Change it</button></div>
              </form>
            }
          </section>
          <section class="sheet part">
            <h2>Second factor</h2>
            @if (a.code) {
              <div class="row-line">
                <span>Codes by an authenticator</span><span class="grow"></span>
                <button type="button" class="plain small" (click)="drop(api.call('dropCode'))">give up</button>
              </div>
            }
            @for (k of a.passkeys; track k.id) {
              <div class="row-line">
                <span
                  >Passkey <b>{{ k.name }}</b> <span class="mute small">used {{ k.usedAt ? (k.usedAt | ago) : 'never' }}</span></span
                ><span class="grow"></span>
                <button type="button" class="plain small" (click)="drop(api.call('dropPasskey', { id: k.id }))">give up</button>
              </div>
            }
            @if (!a.code && !a.passkeys.length) {
              <p class="m-0">{{ a.needed ? 'Your role needs one.' : 'Your password alone lets you in.' }}</p>
            } @else {
              <div class="row-line">
                <span [class.warn]="a.recoveryLeft < 3">{{ a.recoveryLeft }} recovery codes left</span><span class="grow"></span>
                <button type="button" class="plain small" (click)="renew()">make new ones</button>
              </div>
            }
            <div>
              <button type="button" class="act" [class.go]="!a.code && !a.passkeys.length" (click)="begin()">
                {{ a.code || a.passkeys.length ? 'Set up another' : 'Set one up' }}
              </button>
            </div>
          </section>
          <section class="sheet part">
            <h2>Where you are signed in</h2>
            @for (s of a.sessions; track s.id) {
              <div class="session">
                <span>{{ agentWords(s.agent) }}{{ s.own ? ', here' : '' }}</span>
                <span class="mute small">{{ s.address }}, seen {{ s.seen ? (s.seen | ago) : 'before' }}</span>
              </div>
            }
            @if (a.sessions.length > 1) {
              <div><button type="button" class="act" (click)="endOthers()">Sign out everywhere else</button></div>
            }
          </section>
        </div>
      }
    </div>
    @if (open() === 'enrol') {
      <lx-form-dialog heading="Set up a second factor" (closed)="close()"><lx-enrol (done)="close()" /></lx-form-dialog>
    }
    @if (recovery(); as codes) {
      <lx-form-dialog heading="New recovery codes" (closed)="close()">
        <p class="m-0">Each works once in the place of a code. The old ones are good no more. They are shown only now.</p>
        <ul class="num codes">
          @for (code of codes; track code) {
            <li>{{ code }}</li>
          }
        </ul>
      </lx-form-dialog>
    }`,
  styles:
    ':host { display: block; height: 100%; } .three { display: grid; grid-template-columns: repeat(auto-fit, minmax(300px, 1fr)); gap: 14px; align-items: start; } .part { padding: 12px 16px 14px; display: flex; flex-direction: column; gap: 10px; } form { display: flex; flex-direction: column; gap: 10px; } label { display: flex; flex-direction: column; gap: 3px; font-size: 12.5px; } .session { display: flex; flex-direction: column; } .codes { columns: 2; margin: 0; font-size: 14px; line-height: 1.7; list-style: none; padding: 0; }',
})
export class AccountPage {
  protected readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly acts = new Acts();
  protected readonly result = toSignal(this.acts.changed.pipe(switchMap(() => this.api.call('ownAccount').pipe(outcome<OwnAccount>()))));
  protected readonly open = signal<'enrol' | null>(null);
  protected readonly recovery = signal<readonly string[] | null>(null);
  protected readonly problem = this.acts.problem;
  protected readonly said = signal('');
  protected old = '';
  protected fresh = '';

  /** The browser and system that an agent says it is. */
  protected agentWords(agent: string): string {
    const browser = /(Firefox|Edg|Chrome|Safari)\//.exec(agent)?.[1];
    const system = /(Windows|Mac OS X|Android|iPhone|Linux)/.exec(agent)?.[1];
    return browser ? `${browser === 'Edg' ? 'Edge' : browser}${system ? ` on ${system}` : ''}` : 'A browser';
  }

  private act<T>(call: Observable<T>, then: (answer: T) => void): void {
    this.said.set('');
    this.acts.run(call, then);
  }

  protected changePassword(): void {
    this.act(this.api.call('changePassword', { body: { old: this.old, password: this.fresh } }), () => {
      this.old = this.fresh = '';
      this.said.set('The new password is in force. Everywhere else you were signed out.');
    });
  }

  protected drop(call: Observable<unknown>): void {
    this.act(call, () => undefined);
  }

  protected renew(): void {
    this.act(this.api.call('newRecoveryCodes'), ({ recovery }) => {
      this.recovery.set(recovery);
    });
  }

  protected begin(): void {
    this.problem.set('');
    this.open.set('enrol');
  }

  protected endOthers(): void {
    this.act(this.api.call('endOtherSessions'), () => {
      this.said.set('Everywhere else you were signed out.');
    });
  }

  protected close(): void {
    this.open.set(null);
    this.recovery.set(null);
    this.acts.again();
  }
}
