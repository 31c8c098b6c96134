import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { BodyInput, Matter, Named } from '@lithodex/contract';
import { NgbDropdownModule } from '@ng-bootstrap/ng-bootstrap/dropdown';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

const day = 86_400_000;
const delays = [
  { ms: day, word: 'for a day' },
  { ms: 3 * day, word: 'for 3 days' },
  { ms: 7 * day, word: 'for a week' },
  { ms: 28 * day, word: 'for 4 weeks' },
];

/** One cause that needs a person: what it touches, the next step, who has it. */
@Component({
  selector: 'lx-matter-card',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, NgbDropdownModule, StateMark, ...formatPipes],
  template: `@let m = matter();
    <lx-mark [state]="m.level" />
    <div>
      <b>{{ m.title }}</b>
      @if (m.fresh) {
        <span class="new">new</span>
      }
      <p>{{ m.text }}</p>
      @if (m.owner || m.putOff) {
        <div class="small mute">
          @if (m.owner) {
            {{ m.owner.name }} has it.
          }
          @if (m.putOff) {
            Put off until {{ m.putOff | moment }}; it comes back sooner if it becomes worse.
          }
        </div>
      }
      @if (noting()) {
        <form class="noting" (submit)="change({ note: no.value }); $event.preventDefault()">
          <input #no class="field" aria-label="Note" maxlength="500" [value]="m.note?.text ?? ''" (keydown.escape)="noting.set(false)" />
          <button class="act sm">Keep the note</button>
        </form>
      } @else if (m.note) {
        <div class="small note" [title]="m.note.at | exact">“{{ m.note.text }}” {{ m.note.by }}, {{ m.note.at | ago }}</div>
      }
      @if (problem()) {
        <div class="small f" role="alert">{{ problem() }}</div>
      }
      <div class="acts">
        <a class="act sm" [class.go]="m.level === 'fault'" [routerLink]="m.action.link" [queryParams]="m.action.query">{{
          m.action.label
        }}</a>
        @if (m.second; as s) {
          <a class="act sm" [routerLink]="s.link" [queryParams]="s.query">{{ s.label }}</a>
        }
        @if (session.runs()) {
          <span ngbDropdown container="body" placement="bottom-start">
            <button type="button" class="act sm" ngbDropdownToggle [attr.aria-label]="'More about: ' + m.title">More</button>
            <span ngbDropdownMenu class="menu">
              @if (mine()) {
                <button type="button" ngbDropdownItem (click)="change({ owner: null })">Give it back</button>
              } @else {
                <button type="button" ngbDropdownItem (click)="change({ owner: self() })">I take it on</button>
              }
              @for (p of others(); track p.id) {
                <button type="button" ngbDropdownItem (click)="change({ owner: p.id })">Give it to {{ p.name }}</button>
              }
              <button type="button" ngbDropdownItem (click)="noting.set(true)">{{ m.note ? 'Change the note' : 'Note something' }}</button>
              @if (m.putOff) {
                <button type="button" ngbDropdownItem (click)="change({ putOff: null })">Take it up again</button>
              } @else {
                @for (d of delays; track d.ms) {
                  <button type="button" ngbDropdownItem (click)="change({ putOff: session.now() + d.ms })">Put it off {{ d.word }}</button>
                }
              }
            </span>
          </span>
        }
        <span class="since" [title]="m.since | exact">{{ m.since | ago }}</span>
      </div>
    </div>`,
  styles: `
    :host {
      display: grid;
      grid-template-columns: 20px 1fr;
      gap: 9px;
      padding: 9px 16px 10px;
      border-top: 1px solid var(--line);
    }
    p {
      margin: 1px 0 6px;
      color: var(--ink-2);
      font-size: 13px;
    }
    .new {
      margin-left: 7px;
      font-size: 11.5px;
      font-weight: 600;
      color: var(--lapis);
    }
    .note,
    .noting {
      margin: 2px 0 6px;
    }
    .note {
      overflow-wrap: anywhere;
    }
    .noting {
      display: flex;
      gap: 6px;
    }
    .noting input {
      flex: 1;
    }
    .acts {
      display: flex;
      flex-wrap: wrap;
      gap: 6px;
      align-items: center;
      margin-top: 4px;
    }
    .since {
      white-space: nowrap;
      margin-left: auto;
      font-size: 12px;
      color: var(--ink-2);
    }
    .dropdown-toggle::after {
      display: none;
    }
  `,
})
export class MatterCard {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly matter = input.required<Matter>();
  /** Who can take it on. */
  readonly people = input.required<readonly Named[]>();
  protected readonly delays = delays;
  protected readonly noting = signal(false);
  protected readonly problem = signal('');
  protected readonly self = computed(() => this.session.me()?.id ?? null);
  protected readonly mine = computed(() => this.matter().owner !== null && this.matter().owner?.id === this.self());
  protected readonly others = computed(() => this.people().filter((p) => p.id !== this.self() && p.id !== this.matter().owner?.id));

  protected change(body: BodyInput<'changeMatter'>): void {
    this.problem.set('');
    this.api.call('changeMatter', { id: this.matter().id, body }).subscribe({
      next: () => {
        this.noting.set(false);
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
