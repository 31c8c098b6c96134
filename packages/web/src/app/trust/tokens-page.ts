import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import { roles, tokenDays, type MoverToken, type Role, type Token } from '@lithodex/contract';
import { formatList } from '@lithodex/core';
import { startWith, Subject, switchMap, type Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { RemitChoice } from './remit-choice';

type Open =
  { readonly what: 'add' } | { readonly what: 'rotate'; readonly token: Token } | { readonly what: 'systems'; readonly token: MoverToken };
const dayMs = 86_400_000;
const soonMs = 14 * dayMs;

/** What programs and movers come in with: whose it is, what it may do, when it ends. */
@Component({
  selector: 'lx-tokens-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, FormDialog, RemitChoice, ...formatPipes],
  templateUrl: './tokens-page.html',
  styles:
    ':host { display: block; height: 100%; } form { display: flex; flex-direction: column; gap: 12px; } form > label { display: flex; flex-direction: column; gap: 3px; font-size: 13px; font-weight: 600; } code { overflow-wrap: anywhere; } .acts { display: flex; gap: 10px; justify-content: flex-end; } .systems label { display: flex; gap: 6px; } input[type=number] { width: 90px; }',
})
export class TokensPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly again = new Subject<void>();
  private readonly changed = this.again.pipe(startWith(undefined));
  protected readonly tokens = toSignal(this.changed.pipe(switchMap(() => this.api.call('listTokens').pipe(outcome<{ rows: Token[] }>()))));
  protected readonly moverTokens = toSignal(
    this.changed.pipe(switchMap(() => this.api.call('listMoverTokens').pipe(outcome<{ rows: MoverToken[] }>()))),
  );
  private readonly platformList = toSignal(this.api.call('listPlatforms').pipe(outcome()));
  protected readonly platforms = computed(() => this.platformList()?.value?.rows ?? []);
  protected readonly roles = roles;
  protected readonly open = signal<Open | null>(null);
  protected readonly issued = signal('');
  protected readonly problem = signal('');
  protected name = '';
  protected role: Role = 'auditor';
  protected days = tokenDays;
  protected readonly remit = signal<readonly number[]>([]);
  protected readonly systems = signal<readonly number[]>([]);

  protected endWords(t: Token): string {
    if (t.expiresAt === null) return 'never: issue it anew to give it an end';
    return t.expiresAt <= this.session.now() ? 'has ended' : '';
  }

  protected endsSoon(t: Token): boolean {
    return t.expiresAt !== null && t.expiresAt < this.session.now() + soonMs;
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

  private act<T>(call: Observable<T>, then: (answer: T) => void): void {
    this.problem.set('');
    call.subscribe({
      next: (answer) => {
        then(answer);
        this.again.next();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }

  private readonly shown = ({ token }: { token: string }) => {
    this.issued.set(token);
  };
  private readonly closed = () => {
    this.open.set(null);
  };

  protected add(): void {
    const { name, role, days } = this;
    this.act(this.api.call('addToken', { body: { name, role, days, remit: role === 'clerk' ? [...this.remit()] : null } }), this.shown);
  }

  protected rotate(t: Token): void {
    this.act(this.api.call('rotateToken', { id: t.id, body: { days: this.days } }), this.shown);
  }

  protected withdraw(t: Token): void {
    this.act(this.api.call('removeToken', { id: t.id }), this.closed);
  }

  protected withdrawMover(t: MoverToken): void {
    this.act(this.api.call('removeMoverToken', { id: t.id }), this.closed);
  }

  protected toggle(id: number): void {
    this.systems.update((list) => (list.includes(id) ? list.filter((s) => s !== id) : [...list, id]));
  }

  protected setSystems(t: MoverToken): void {
    this.act(this.api.call('changeMoverToken', { id: t.id, body: { systems: [...this.systems()] } }), this.closed);
  }
}
