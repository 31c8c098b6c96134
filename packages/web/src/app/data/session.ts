import { computed, inject, Injectable, signal } from '@angular/core';
import type { Me, Own, Role, SignedIn, SignInStep } from '@lithodex/contract';
import { catchError, map, of, tap, type Observable } from 'rxjs';
import { Api } from './api';
import { CsrfToken } from './csrf-token';

/** Who is signed in, and what that person may do. */
@Injectable({ providedIn: 'root' })
export class Session {
  private readonly api = inject(Api);
  private readonly csrf = inject(CsrfToken);
  private readonly current = signal<Me | null>(null);
  readonly me = this.current.asReadonly();
  private readonly visitor = signal<Own | null>(null);
  readonly zone = computed(() => this.current()?.zone ?? this.visitor()?.zone ?? 'UTC');
  /** May change policies, sources and targets. */
  readonly keeps = computed(() => this.is('administrator'));
  readonly runs = computed(() => this.is('administrator', 'operator'));
  readonly restores = computed(() => this.is('administrator', 'clerk'));
  readonly reads = computed(() => this.is('administrator', 'operator', 'auditor'));
  /** May keep something of their own. */
  readonly keepsOwn = computed(() => this.is('administrator', 'operator', 'clerk'));
  readonly audits = computed(() => this.is('administrator', 'auditor'));
  private offset = 0;

  private is(...roles: Role[]): boolean {
    const me = this.current();
    return me !== null && roles.includes(me.role);
  }

  /** The server's time, ms. */
  now(): number {
    return Date.now() + this.offset;
  }

  private take(me: Me): Me {
    this.csrf.value = me.csrf;
    this.offset = me.now - Date.now();
    this.current.set(me);
    return me;
  }

  /** Takes who signed in for themselves only: nothing else is open to them. */
  enter(own: Own): Own {
    this.csrf.value = own.csrf;
    this.offset = own.now - Date.now();
    this.visitor.set(own);
    return own;
  }

  /** True when somebody is signed in; asks the server once. */
  check(): Observable<boolean> {
    if (this.current()) return of(true);
    return this.api.call('me').pipe(
      map((me) => this.take(me) !== null),
      catchError(() => of(false)),
    );
  }

  /** Takes the answer of a step of signing in: who is signed in now, or what comes next. */
  step(answer: Observable<SignedIn>): Observable<SignInStep | null> {
    return answer.pipe(
      map((said) => {
        if ('step' in said) return said;
        this.take(said);
        return null;
      }),
    );
  }

  signOut(): Observable<unknown> {
    return this.api.call('signOut').pipe(
      tap(() => {
        this.current.set(null);
        this.csrf.value = '';
      }),
    );
  }
}
