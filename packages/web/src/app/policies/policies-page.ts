import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { PolicyBody } from '@lithodex/contract';
import { from, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { ruleSentences } from './sentence';

@Component({
  selector: 'lx-policies-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, StateMark, ...formatPipes],
  template: `<div class="page">
    <div class="row-line">
      <h1>Policies</h1>
      <span class="grow"></span>
      @if (session.reads()) {
        <a class="act" routerLink="/policies/calendar">Calendar</a>
      }
      @if (session.keeps()) {
        <label class="act"
          >Read from a file<input
            type="file"
            class="visually-hidden"
            accept=".yaml,.yml"
            aria-label="File of a policy"
            (change)="read($event)"
        /></label>
        <a class="act go" routerLink="/policies/new">Write a policy</a>
      }
    </div>
    @if (result()?.failure ?? problem(); as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    }
    <div class="sheet scroll">
      <table class="list">
        <thead>
          <tr>
            <th></th>
            <th>Policy</th>
            <th>Rules</th>
            <th>Protects</th>
            <th>Next run</th>
            <th>Last run</th>
            <th class="right">Points</th>
          </tr>
        </thead>
        <tbody>
          @for (p of rows(); track p.id) {
            <tr>
              <td><lx-mark [state]="p.matches.length ? 'fine' : 'absent'" /></td>
              <td>
                <a [routerLink]="['/policies', p.id]"
                  ><b>{{ p.body.name }}</b></a
                >
              </td>
              <td class="rule">
                @for (said of sentences(p.body, policyNames()); track $index) {
                  <div>{{ said }}</div>
                }
              </td>
              <td class="names cut" [title]="names(p.matches)">
                @if (p.matches.length) {
                  {{ p.matches.length }}: {{ names(p.matches) }}
                } @else {
                  <span class="w">matches nothing</span>
                }
              </td>
              <td [title]="p.nextRun | exact">
                {{ p.nextRun ? (p.nextRun | moment) : follows(p.body) ? 'not known' : 'by hand' }}
              </td>
              <td>
                <a routerLink="/runs" [queryParams]="{ policy: p.id }">{{ p.lastRun ? (p.lastRun | moment) : 'never' }}</a>
              </td>
              <td class="right num">{{ p.points }}</td>
            </tr>
          }
        </tbody>
      </table>
      @if (result()?.value && !rows().length) {
        <div class="empty">
          There is no policy yet. A policy says what is protected, when, where to and for how long; writing one shows what it will do before
          it is in force.
        </div>
      }
    </div>
  </div>`,
  styles:
    ':host { display: block; height: 100%; } .names { max-width: 220px; } table.list td.rule { white-space: normal; min-width: 300px; }',
})
export class PoliciesPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  protected readonly result = toSignal(
    inject(Live).reloading(
      () => this.api.call('listPolicies').pipe(outcome()),
      (e) => e.kind === 'policy' || e.kind === 'run',
      2000,
    ),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows ?? []);
  protected readonly sentences = ruleSentences;
  protected readonly follows = (body: PolicyBody) => body.rules.some((r) => r.schedule.every === 'after');
  protected readonly policyNames = computed(() => new Map(this.rows().map((p) => [p.id, p.body.name])));

  protected readonly problem = signal<ApiFailure | null>(null);

  /** Opens what a file says as a draft: nothing is in force before one has seen what it does. */
  protected read(event: Event): void {
    const field = event.target as HTMLInputElement;
    const file = field.files?.[0];
    this.problem.set(null);
    if (!file) return;
    from(file.text())
      .pipe(switchMap((text) => this.api.call('readPolicy', { body: { text } })))
      .subscribe({
        next: ({ body }) => void this.router.navigate(['/policies/new'], { state: { draft: body } }),
        error: (failure: ApiFailure) => {
          field.value = '';
          this.problem.set(failure);
        },
      });
  }

  protected names(list: readonly { name: string }[]): string {
    return list.map((m) => m.name).join(', ');
  }
}
