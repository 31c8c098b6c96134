import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { AuditCheck, AuditRow, Person, Request, Role, Token } from '@lithodex/contract';
import { combineLatest, debounceTime, merge, startWith, Subject, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

/** The audit trail, people and tokens. */
@Component({
  selector: 'lx-trust-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, FilterBox, FormDialog, StateMark, ...formatPipes],
  templateUrl: './trust-page.html',
  styles:
    ':host { display: block; height: 100%; } .two { display: grid; grid-template-columns: minmax(0, 1fr) 380px; gap: 14px; flex: 1; min-height: 0; } .box { display: flex; flex-direction: column; min-height: 0; overflow: hidden; } .bar { display: flex; gap: 10px; align-items: center; padding: 9px 14px; border-bottom: 1px solid var(--line); } .p { display: grid; grid-template-columns: 1fr auto auto; gap: 10px; padding: 6px 14px; border-bottom: 1px solid var(--row); } .p .small { margin-left: 6px; } .ask { display: grid; gap: 3px; padding: 8px 14px; border-bottom: 1px solid var(--row); } .ask.past { color: var(--ink-3); } .ask .acts { display: flex; gap: 8px; align-items: center; } .detail { max-width: 330px; } .object { max-width: 170px; } form { display: flex; flex-direction: column; gap: 12px; } label { display: flex; flex-direction: column; gap: 3px; font-size: 13px; font-weight: 600; } code { overflow-wrap: anywhere; }',
})
export class TrustPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  readonly q = input<string>();
  private readonly live = inject(Live);
  private readonly again = new Subject<void>();
  private readonly changed = this.again.pipe(startWith(undefined));
  protected readonly trail = toSignal(
    combineLatest([toObservable(this.q), this.changed]).pipe(
      debounceTime(120),
      switchMap(([q]) => this.api.call('audit', { query: { q, limit: 200 } }).pipe(outcome())),
    ),
  );
  protected readonly rows = computed((): readonly AuditRow[] => this.trail()?.value?.rows ?? []);
  protected readonly failure = computed(() => this.trail()?.failure);
  private readonly peopleResult = toSignal(
    this.changed.pipe(switchMap(() => this.api.call('listPeople').pipe(outcome<{ rows: Person[] }>()))),
  );
  protected readonly tokenResult = toSignal(
    this.changed.pipe(switchMap(() => this.api.call('listTokens').pipe(outcome<{ rows: Token[] }>()))),
  );
  protected readonly people = computed(() => this.peopleResult()?.value?.rows ?? []);
  protected readonly tokens = computed(() => this.tokenResult()?.value?.rows ?? []);
  private readonly requestResult = toSignal(
    merge(
      this.again,
      this.live.ticks((e) => e.kind === 'request'),
    ).pipe(switchMap(() => this.api.call('listRequests').pipe(outcome<{ rows: Request[] }>()))),
  );
  /** What waits for a second person, then what was decided lately. */
  protected readonly requests = computed(() => {
    const rows = this.requestResult()?.value?.rows ?? [];
    return [...rows.filter((r) => r.state === 'waiting'), ...rows.filter((r) => r.state !== 'waiting').slice(0, 3)];
  });
  protected readonly check = signal<AuditCheck | null>(null);
  protected readonly adding = signal<'person' | 'token' | null>(null);
  protected readonly issued = signal('');
  protected readonly problem = signal('');
  protected readonly roles: readonly Role[] = ['administrator', 'operator', 'clerk', 'auditor'];
  protected name = '';
  protected display = '';
  protected password = '';
  protected role: Role = 'operator';

  protected patch(q: string | null): void {
    void this.router.navigate([], { queryParams: { q }, replaceUrl: true });
  }

  protected verify(): void {
    this.api.call('checkAudit').subscribe((c) => {
      this.check.set(c);
    });
  }

  protected open(what: 'person' | 'token'): void {
    this.problem.set('');
    this.issued.set('');
    this.name = this.display = this.password = '';
    this.adding.set(what);
  }

  private readonly done = {
    next: () => {
      this.adding.set(null);
      this.again.next();
    },
    error: (f: ApiFailure) => {
      this.problem.set(f.message);
    },
  };

  protected addPerson(): void {
    this.api
      .call('addPerson', { body: { name: this.name, display: this.display, role: this.role, password: this.password } })
      .subscribe(this.done);
  }

  protected addToken(): void {
    this.api.call('addToken', { body: { name: this.name, role: this.role } }).subscribe({
      next: ({ token }) => {
        this.issued.set(token);
        this.again.next();
      },
      error: this.done.error,
    });
  }

  protected bar(p: Person): void {
    this.api.call('removePerson', { id: p.id }).subscribe(this.done);
  }

  protected agree(r: Request): void {
    this.problem.set('');
    this.api.call('agreeRequest', { id: r.id }).subscribe(this.done);
  }

  protected refuse(r: Request): void {
    this.problem.set('');
    this.api.call('refuseRequest', { id: r.id }).subscribe(this.done);
  }

  protected linkOf(r: Request): string[] | null {
    const [what, id = ''] = r.subject.split(' ');
    return what === 'policy' ? ['/policies', id] : null;
  }

  protected withdraw(t: Token): void {
    this.api.call('removeToken', { id: t.id }).subscribe(this.done);
  }
}
