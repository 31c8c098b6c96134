import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { NgbDropdownModule } from '@ng-bootstrap/ng-bootstrap/dropdown';
import { DateTime } from 'luxon';
import { Moment } from '../data/moment';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';

/** The moment in the masthead: the one time cursor, in the one warm yellow while it is set. */
@Component({
  selector: 'lx-moment-control',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, NgbDropdownModule, ...formatPipes],
  template: `<span ngbDropdown placement="bottom-end" #drop="ngbDropdown">
      <button type="button" class="moment" [class.set]="moment.at()" ngbDropdownToggle>
        <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true">
          <circle cx="7" cy="7" r="5.6" fill="none" stroke="currentColor" stroke-width="1.5" />
          <path d="M7 3.8V7l2.3 1.6" fill="none" stroke="currentColor" stroke-width="1.5" stroke-linecap="round" />
        </svg>
        <span>{{ moment.at() ? 'As of ' + (moment.at() | moment) : 'As of now' }}</span>
      </button>
      <span ngbDropdownMenu class="menu">
        <label class="small mute" for="lx-moment">Read everything as of</label>
        <input
          id="lx-moment"
          class="field"
          type="datetime-local"
          [ngModel]="local()"
          (ngModelChange)="typed.set($event)"
          (keydown.enter)="apply(); drop.close()"
        />
        <span class="row-line"
          ><button type="button" class="act go sm" (click)="apply(); drop.close()">Set the moment</button
          ><button type="button" class="act sm" (click)="moment.set(null); drop.close()">Now</button></span
        >
      </span>
    </span>
    @if (moment.at()) {
      <button type="button" class="clear" aria-label="Back to now" (click)="moment.set(null)">✕</button>
    }`,
  styles: `
    :host {
      display: flex;
      align-items: center;
    }
    .moment {
      display: flex;
      align-items: center;
      gap: 8px;
      border: 1px solid var(--mast-line);
      border-radius: 8px;
      padding: 4px 10px;
      font-size: 13px;
      color: #fff;
      background: none;
      white-space: nowrap;
    }
    .moment::after {
      display: none;
    }
    .moment.set {
      background: var(--moment);
      color: var(--moment-ink);
      border-color: var(--moment);
    }
    .clear {
      background: none;
      border: 0;
      color: var(--moment);
      margin-left: 2px;
    }
    .menu {
      padding: 12px;
      min-width: 240px;
      --bs-dropdown-bg: var(--sheet);
    }
    .menu > * {
      margin-bottom: 8px;
      width: 100%;
    }
  `,
})
export class MomentControl {
  protected readonly moment = inject(Moment);
  private readonly session = inject(Session);
  protected readonly typed = signal('');
  protected readonly local = computed(() =>
    DateTime.fromMillis(this.moment.at() ?? this.session.now(), { zone: this.session.zone() }).toFormat("yyyy-MM-dd'T'HH:mm"),
  );

  protected apply(): void {
    const at = DateTime.fromISO(this.typed() || this.local(), { zone: this.session.zone() });
    if (at.isValid) this.moment.set(Math.min(at.toMillis(), this.session.now()));
  }
}
