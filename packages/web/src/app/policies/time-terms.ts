import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { ClosedDay, type PolicyBody } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';

type Terms = Pick<PolicyBody, 'window' | 'closed' | 'retries' | 'catchUp' | 'priority' | 'rules'>;
const usualWindow = { from: '22:00', to: '06:00', stop: false };
const typedWindow = /^(\d{1,2}:\d{2})\s*(?:-|–|to)\s*(\d{1,2}:\d{2})$/;
const clockTime = (text: string) => {
  const padded = text.padStart(5, '0');
  return /^([01]\d|2[0-3]):[0-5]\d$/.test(padded) ? padded : undefined;
};

/** What holds for the times of a policy: its window, its closed days, what is tried again or made good, and who goes first. */
@Component({
  selector: 'lx-time-terms',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `
    @let t = terms();
    Runs start
    <lx-slot
      label="window"
      [options]="windows"
      [value]="windowKey()"
      [text]="windowWords()"
      (valueChange)="chooseWindow($event)"
      free="or type 21:30 to 05:00"
      (entered)="typeWindow($event)"
      [disabled]="disabled()"
    />
    @if (t.window) {
      and what still runs when it closes
      <lx-slot
        label="end of the window"
        [options]="stops"
        [value]="t.window.stop"
        (valueChange)="setStop($event)"
        [disabled]="disabled()"
      />
    }
    · closed on
    @for (day of t.closed; track day) {
      <span class="pill"
        >{{ day }}
        @if (!disabled()) {
          <button type="button" [attr.aria-label]="'Without closed day ' + day" (click)="open(day)">✕</button>
        }
      </span>
    }
    @if (!disabled()) {
      <lx-slot
        label="closed day"
        [options]="closedDays"
        [value]="''"
        [text]="t.closed.length ? '+ day' : 'no day'"
        (valueChange)="close($event)"
        free="a date, 2027-05-17, or every year, 12-25"
        (entered)="close($event)"
      />
    } @else if (!t.closed.length) {
      no day
    }
    · what failed is tried again
    <lx-slot label="retries" [options]="retryTimes" [value]="t.retries.times" (valueChange)="setTimes($event)" [disabled]="disabled()" />
    @if (t.retries.times) {
      ,
      <lx-slot
        label="pause before trying again"
        [options]="pauses"
        [value]="t.retries.pauseMinutes"
        (valueChange)="setPause($event)"
        [disabled]="disabled()"
      />
      after it ended
    }
    @if (timed()) {
      · a run whose time passed
      <lx-slot
        label="missed runs"
        [options]="catchUps"
        [value]="t.catchUp"
        (valueChange)="set({ catchUp: $event })"
        [disabled]="disabled()"
      />
    }
    · when movers are short it goes
    <lx-slot
      label="priority"
      [options]="priorities"
      [value]="t.priority"
      (valueChange)="set({ priority: $event })"
      [disabled]="disabled()"
    />.
  `,
})
export class TimeTerms {
  readonly terms = input.required<Terms>();
  readonly disabled = input(false);
  readonly changed = output<Partial<Terms>>();

  /** Whether any rule starts by itself. */
  protected readonly timed = computed(() => this.terms().rules.some((r) => r.schedule.every !== 'hand'));
  protected readonly windows: SlotOption<string>[] = [
    { value: '', label: 'at any hour' },
    ...[
      ['20:00', '06:00'],
      ['22:00', '06:00'],
      ['00:00', '05:00'],
    ].map(([from, to]) => ({ value: `${from} to ${to}`, label: `only from ${from} to ${to}` })),
  ];
  protected readonly windowKey = computed(() => {
    const { window } = this.terms();
    return window ? `${window.from} to ${window.to}` : '';
  });
  protected readonly windowWords = computed(() => (this.windowKey() ? `only from ${this.windowKey()}` : 'at any hour'));
  protected readonly stops: SlotOption<boolean>[] = [
    { value: false, label: 'goes on to its end' },
    { value: true, label: 'is cut off', note: 'what was stored so far is used again' },
  ];
  protected readonly closedDays: SlotOption<string>[] = [
    { value: '01-01', label: '01-01', note: 'every first of January' },
    { value: '12-24', label: '12-24', note: 'every 24 December' },
    { value: '12-25', label: '12-25', note: 'every 25 December' },
  ];
  protected readonly retryTimes = [0, 1, 2, 3, 5].map((n): SlotOption<number> => ({
    value: n,
    label: n === 0 ? 'by hand only' : n === 1 ? 'once' : `${n} times`,
  }));
  protected readonly pauses = [5, 10, 30, 60, 120].map((n): SlotOption<number> => ({
    value: n,
    label: n < 60 ? countOf(n, 'minute') : countOf(n / 60, 'hour'),
  }));
  protected readonly catchUps: SlotOption<boolean>[] = [
    { value: true, label: 'is made good as soon as may be' },
    { value: false, label: 'is left out', note: 'and told as not started' },
  ];
  protected readonly priorities: SlotOption<Terms['priority']>[] = [
    { value: 'first', label: 'first' },
    { value: 'usual', label: 'in its turn' },
    { value: 'last', label: 'last' },
  ];

  protected set(change: Partial<Terms>): void {
    this.changed.emit(change);
  }

  protected chooseWindow(key: string): void {
    if (key) this.typeWindow(key);
    else this.set({ window: null });
  }

  protected typeWindow(text: string): void {
    const [, first, second] = typedWindow.exec(text.trim()) ?? [];
    const [from, to] = [clockTime(first ?? ''), clockTime(second ?? '')];
    if (from && to) this.set({ window: { ...(this.terms().window ?? usualWindow), from, to } });
  }

  protected setStop(stop: boolean): void {
    const { window } = this.terms();
    if (window) this.set({ window: { ...window, stop } });
  }

  protected close(day: string): void {
    const { closed } = this.terms();
    if (ClosedDay.safeParse(day).success && !closed.includes(day)) this.set({ closed: [...closed, day].sort() });
  }

  protected open(day: string): void {
    this.set({ closed: this.terms().closed.filter((d) => d !== day) });
  }

  protected setTimes(times: number): void {
    this.set({ retries: { ...this.terms().retries, times } });
  }

  protected setPause(pauseMinutes: number): void {
    this.set({ retries: { ...this.terms().retries, pauseMinutes } });
  }
}
