import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { Notice } from '@lithodex/contract';
import { merge, startWith, Subject, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { MailServerForm } from './mail-server-form';
import { NoticeForm } from './notice-form';
import { aboutWords, wayWords } from './notice-words';

const againMs = 15_000;

/** Who is told of what, and what became of the messages. */
@Component({
  selector: 'lx-notices-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, StateMark, NoticeForm, MailServerForm, ...formatPipes],
  template: `<div class="page scroll">
      <div class="row-line">
        <h1>Notices</h1>
        <a class="small" routerLink="/reports">Reports</a>
        <span class="grow"></span>
        @if (session.keeps()) {
          <button type="button" class="act" (click)="mailing.set(true)">How mail goes out</button>
          <button type="button" class="act go" (click)="editing.set('new')">Tell somebody</button>
        }
      </div>
      @if (notices()?.failure; as f) {
        <div class="problem" role="alert">{{ f.message }}</div>
      }
      @if (mail()?.value; as m) {
        <p class="m-0 small mute">
          @if (m.server; as s) {
            Mail goes out through {{ s.host }}:{{ s.port }}{{ s.security === 'none' ? ', not encrypted' : '' }}, from {{ s.from }}.
          } @else {
            Nobody has said yet how mail goes out, so only calls can be made.
          }
        </p>
      }
      <div class="sheet">
        @for (n of rows(); track n.id) {
          <article>
            <lx-mark [state]="n.trouble ? 'warning' : n.paused ? 'stopped' : 'fine'" />
            <div class="grow">
              <b>{{ n.name }}</b>
              @if (n.paused) {
                <span class="mute small">, paused</span>
              }
              <div class="small">
                Tells of {{ about(n) }}, {{ way(n.way) }}{{ n.signed ? ', signed' : '' }}.
                <span class="mute"
                  >{{ n.lastSent ? 'Last sent ' : 'Nothing sent yet' }}{{ n.lastSent ? (n.lastSent | ago) : ''
                  }}{{ n.waiting ? ', ' + n.waiting + ' waiting' : '' }}.</span
                >
              </div>
              @if (n.trouble) {
                <div class="small w">{{ n.trouble }}</div>
              }
              @if (tried()?.id === n.id) {
                <div class="small" [class.f]="tried()?.problem" role="status">
                  {{ tried()?.problem || 'The message of trial went out.' }}
                </div>
              }
            </div>
            @if (session.keeps()) {
              <button type="button" class="act sm" (click)="try(n)">Send a trial</button>
              <button type="button" class="act sm" (click)="editing.set(n)">Change</button>
              <button type="button" class="act sm" (click)="leaving() === n.id ? remove(n) : leaving.set(n.id)">
                {{ leaving() === n.id ? 'Remove it: nobody is told any more' : 'Remove' }}
              </button>
            }
          </article>
        } @empty {
          @if (notices()?.value) {
            <div class="empty">Nobody is told of anything yet. A fault that nobody looks for is found when it is too late.</div>
          }
        }
      </div>
      @if (messages()?.value?.rows; as list) {
        @if (list.length) {
          <h2>Messages</h2>
          <div class="sheet">
            <table class="list">
              <thead>
                <tr>
                  <th></th>
                  <th>Subject</th>
                  <th>Notice</th>
                  <th>Queued</th>
                  <th>Sent</th>
                </tr>
              </thead>
              <tbody>
                @for (m of list; track m.id) {
                  <tr>
                    <td><lx-mark [state]="m.sentAt ? 'fine' : m.trouble ? 'warning' : 'waiting'" /></td>
                    <td class="cut subject" [title]="m.subject">{{ m.subject }}</td>
                    <td>{{ m.notice }}</td>
                    <td [title]="m.queuedAt | exact">{{ m.queuedAt | moment }}</td>
                    <td [title]="m.sentAt | exact">
                      @if (m.sentAt) {
                        {{ m.sentAt | moment }}
                      } @else {
                        <span class="w" [title]="m.trouble ?? ''">{{
                          m.nextTry ? (m.trouble ? 'again ' + (m.nextTry | moment) : 'waiting') : 'given up'
                        }}</span>
                      }
                    </td>
                  </tr>
                }
              </tbody>
            </table>
          </div>
        }
      }
    </div>
    @if (editing(); as e) {
      <lx-notice-form
        [notice]="e === 'new' ? null : e"
        [policies]="policies()?.value?.rows ?? []"
        (closed)="editing.set(null)"
        (saved)="done()"
      />
    }
    @if (mailing()) {
      <lx-mail-server-form [server]="mail()?.value?.server ?? null" (closed)="mailing.set(false)" (saved)="done()" />
    }`,
  styles: `
    :host {
      display: block;
      height: 100%;
    }
    article {
      display: flex;
      gap: 10px;
      align-items: center;
      padding: 9px 14px;
      border-bottom: 1px solid var(--row);
    }
    .subject {
      max-width: 420px;
    }
    h2 {
      margin: 8px 0 0;
    }
  `,
})
export class NoticesPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly changed = new Subject<void>();
  private readonly often = merge(this.changed, timer(againMs, againMs)).pipe(startWith(undefined));
  protected readonly notices = toSignal(this.often.pipe(switchMap(() => this.api.call('listNotices').pipe(outcome()))));
  protected readonly messages = toSignal(this.often.pipe(switchMap(() => this.api.call('listMessages').pipe(outcome()))));
  protected readonly mail = toSignal(
    this.changed.pipe(
      startWith(undefined),
      switchMap(() => this.api.call('mailServer').pipe(outcome())),
    ),
  );
  protected readonly policies = toSignal(this.api.call('listPolicies').pipe(outcome()));
  protected readonly rows = computed(() => this.notices()?.value?.rows ?? []);
  private readonly policyNames = computed(() => new Map(this.policies()?.value?.rows.map((p) => [p.id, p.body.name])));
  protected readonly editing = signal<Notice | 'new' | null>(null);
  protected readonly mailing = signal(false);
  protected readonly leaving = signal<number | null>(null);
  protected readonly tried = signal<{ id: number; problem: string } | null>(null);
  protected readonly way = wayWords;

  protected about(n: Notice): string {
    return aboutWords(n.about, this.policyNames());
  }

  protected done(): void {
    this.editing.set(null);
    this.mailing.set(false);
    this.leaving.set(null);
    this.changed.next();
  }

  protected try(n: Notice): void {
    const told = (problem: string) => {
      this.tried.set({ id: n.id, problem });
    };
    this.api.call('tryNotice', { id: n.id }).subscribe({
      next: () => {
        told('');
      },
      error: (failure: ApiFailure) => {
        told(failure.message);
      },
    });
  }

  protected remove(n: Notice): void {
    this.api.call('removeNotice', { id: n.id }).subscribe({
      next: () => {
        this.done();
      },
      error: (failure: ApiFailure) => {
        this.tried.set({ id: n.id, problem: failure.message });
      },
    });
  }
}
