import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';

import { tokenDays, type MoverToken, type Role, type Token } from '@lithodex/contract';
import { countOf, formatList } from '@lithodex/core';
import { switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { RoleChoice } from './role-choice';
import { TrustHead } from './trust-head';

type Open =
  | { readonly what: 'add' }
  | { readonly what: 'rotate' | 'withdraw'; readonly token: Token }
  | { readonly what: 'systems' | 'withdrawMover'; readonly token: MoverToken };
const dayMs = 86_400_000;
const soonMs = 14 * dayMs;

/** What programs and movers come in with: whose it is, what it may do, when it ends. */
@Component({
  selector: 'lx-tokens-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, TrustHead, Certain, FormDialog, RoleChoice, ...formatPipes],
  templateUrl: './tokens-page.html',
  styles:
    ':host { display: block; height: 100%; } form { display: flex; flex-direction: column; gap: 12px; } form > label { display: flex; flex-direction: column; gap: 3px; font-size: 13px; font-weight: 600; } code { overflow-wrap: anywhere; } .acts { display: flex; gap: 10px; justify-content: flex-end; } .systems label { display: flex; gap: 6px; } input[type=number] { width: 90px; }',
})
export class TokensPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly acts = new Acts();
  protected readonly tokens = toSignal(
    this.acts.changed.pipe(switchMap(() => this.api.call('listTokens').pipe(outcome<{ rows: Token[] }>()))),
  );
  protected readonly moverTokens = toSignal(
    this.acts.changed.pipe(switchMap(() => this.api.call('listMoverTokens').pipe(outcome<{ rows: MoverToken[] }>()))),
  );
  private readonly platformList = toSignal(this.api.call('listPlatforms').pipe(outcome()));
  protected readonly platforms = computed(() => this.platformList()?.value?.rows ?? []);
  protected readonly open = signal<Open | null>(null);
  protected readonly issued = signal('');
  protected readonly problem = this.acts.problem;
  protected name = '';
  protected readonly role = signal<Role>('auditor');
  protected days = tokenDays;
  protected readonly remit = signal<readonly number[]>([]);
  protected readonly systems = signal<readonly number[]>([]);

  protected roleWords(t: Token): string {
    return t.role === 'clerk' ? `clerk, ${countOf(t.remit?.length ?? 0, 'workload')}` : t.role;
  }

  protected endWords(t: Token): string {
    if (t.expiresAt === null) return 'never: issue it anew to give it an end';
    return t.expiresAt <= this.session.now() ? 'has ended' : '';
  }

  protected endsSoon(t: Token): boolean {
    return t.expiresAt !== null && t.expiresAt < this.session.now() + soonMs;
  }

  /** What goes with a token of movers. */
  protected moverEffect({ mover }: MoverToken): string {
    const who = mover ?? 'Every mover that uses it, such as that of the installation itself,';
    return `It is good for nothing at once. ${who} gets no answer, no task and no secret any more; what it was doing is given to another.`;
  }

  protected systemWords(t: MoverToken): string {
    if (t.systems === null) return 'all systems';
    return t.systems.length ? formatList(t.systems.map((s) => s.name)) : 'none';
  }

  protected show(open: Open): void {
    this.problem.set('');
    this.issued.set('');
    this.name = '';
    this.days = tokenDays;
    this.remit.set([]);
    if (open.what === 'systems') this.systems.set(open.token.systems?.map((s) => s.id) ?? this.platforms().map((p) => p.id));
    this.open.set(open);
  }

  private readonly shown = ({ token }: { token: string }) => {
    this.issued.set(token);
  };
  private readonly closed = () => {
    this.open.set(null);
  };

  protected add(): void {
    const { name, days } = this;
    const role = this.role();
    this.acts.run(
      this.api.call('addToken', { body: { name, role, days, remit: role === 'clerk' ? [...this.remit()] : null } }),
      this.shown,
    );
  }

  protected rotate(t: Token): void {
    this.acts.run(this.api.call('rotateToken', { id: t.id, body: { days: this.days } }), this.shown);
  }

  protected withdraw(t: Token): void {
    this.acts.run(this.api.call('removeToken', { id: t.id }), this.closed);
  }

  protected withdrawMover(t: MoverToken): void {
    this.acts.run(this.api.call('removeMoverToken', { id: t.id }), this.closed);
  }

  protected toggle(id: number): void {
    this.systems.update((list) => (list.includes(id) ? list.filter((s) => s !== id) : [...list, id]));
  }

  protected setSystems(t: MoverToken): void {
    this.acts.run(this.api.call('changeMoverToken', { id: t.id, body: { systems: [...this.systems()] } }), this.closed);
  }
}
