import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';

import { roles, type Person, type Role, type SignInSettings } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { switchMap, type Observable } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { OrganisationForm } from './organisation-form';
import { RoleChoice } from './role-choice';
import { TrustHead } from './trust-head';

type Open = { readonly what: 'add' | 'organisation' | 'drop' } | { readonly what: 'change' | 'reset' | 'bar'; readonly person: Person };

/** Who may sign in, how, and what that takes. */
@Component({
  selector: 'lx-people-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, TrustHead, Certain, FormDialog, OrganisationForm, RoleChoice, ...formatPipes],
  templateUrl: './people-page.html',
  styles:
    ':host { display: block; height: 100%; } .rules { padding: 10px 14px; display: flex; flex-direction: column; gap: 8px; } .rules label { display: inline-flex; gap: 6px; align-items: center; margin-right: 14px; } form { display: flex; flex-direction: column; gap: 12px; } form > label { display: flex; flex-direction: column; gap: 3px; font-size: 13px; font-weight: 600; } code { overflow-wrap: anywhere; } .acts { display: flex; gap: 10px; justify-content: flex-end; } input[type=number] { width: 80px; } .sign { margin-left: 6px; } .needs label:first-child { margin-left: 8px; }',
})
export class PeoplePage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly acts = new Acts();
  protected readonly people = toSignal(this.acts.changed.pipe(switchMap(() => this.api.call('listPeople').pipe(outcome()))));
  private readonly settingsResult = toSignal(
    this.acts.changed.pipe(switchMap(() => this.api.call('signInSettings').pipe(outcome<SignInSettings>()))),
  );
  protected readonly settings = computed(() => this.settingsResult()?.value);
  protected readonly roles = roles;
  protected readonly open = signal<Open | null>(null);
  protected readonly link = signal<{ readonly address: string; readonly until: number } | null>(null);
  protected readonly asked = signal('');
  protected readonly problem = this.acts.problem;
  protected name = '';
  protected display = '';
  protected password = '';
  protected readonly role = signal<Role>('operator');
  protected readonly remit = signal<readonly number[]>([]);
  protected withSecond = false;

  /** What somebody shows besides the password, in words. */
  protected secondWords(p: Person): string {
    if (p.organisation) return 'by the organisation';
    return { none: 'password only', code: 'password and code', passkey: 'password and passkey', both: 'password, code or passkey' }[
      p.second
    ];
  }

  protected remitWords(p: Person): string {
    return p.role === 'clerk' ? countOf(p.remit?.length ?? 0, 'workload') : 'all';
  }

  protected show(open: Open): void {
    this.problem.set('');
    this.link.set(null);
    this.name = this.password = '';
    this.withSecond = false;
    const person = 'person' in open ? open.person : undefined;
    this.display = person?.display ?? '';
    this.role.set(person?.role ?? 'operator');
    this.remit.set(person?.remit ?? []);
    this.open.set(open);
  }

  /** Carries something out, which closes what it was asked in. */
  private act<T>(call: Observable<T>, then: (answer: T) => void = () => undefined): void {
    this.acts.run(call, (answer) => {
      this.open.set(null);
      then(answer);
    });
  }

  private chosenRemit(): number[] | null {
    return this.role() === 'clerk' ? [...this.remit()] : null;
  }

  protected add(): void {
    const { name, display, password } = this;
    this.act(this.api.call('addPerson', { body: { name, display, role: this.role(), password, remit: this.chosenRemit() } }));
  }

  protected change(p: Person): void {
    this.act(
      this.api.call('changePerson', { id: p.id, body: { display: this.display, role: this.role(), remit: this.chosenRemit() } }),
      ({ request }) => {
        this.asked.set(
          request === null ? '' : `Another role takes a second person: it waits under Trust until another administrator agrees.`,
        );
      },
    );
  }

  protected reset(p: Person): void {
    this.acts.run(this.api.call('resetPerson', { id: p.id, body: { second: this.withSecond } }), ({ path, until }) => {
      this.link.set({ address: location.origin + path, until });
    });
  }

  protected bar(p: Person): void {
    this.act(this.api.call('removePerson', { id: p.id }));
  }

  protected toggle(role: Role, s: SignInSettings): void {
    const secondFor = s.secondFor.includes(role) ? s.secondFor.filter((r) => r !== role) : [...s.secondFor, role];
    this.setRules({ ...s, secondFor });
  }

  protected setSelfService(selfService: boolean, s: SignInSettings): void {
    this.setRules({ ...s, selfService });
  }

  private setRules({ secondFor, idleMinutes, selfService }: SignInSettings): void {
    this.act(this.api.call('setSignInRules', { body: { secondFor, idleMinutes, selfService } }));
  }

  protected setIdle(text: string, s: SignInSettings): void {
    this.setRules({ ...s, idleMinutes: Number(text) });
  }

  protected dropOrganisation(): void {
    this.act(this.api.call('dropOrganisation'));
  }

  protected saved(): void {
    this.open.set(null);
    this.acts.again();
  }
}
