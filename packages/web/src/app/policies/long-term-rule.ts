import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { LongTerm, PolicyRule } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';
import { weekdays } from './sentence';

type Keep = PolicyRule['keep'];
type Unit = 'weeks' | 'months' | 'years';
const none: LongTerm = { weeks: 0, months: 0, years: 0, day: 1 };
/** What one starts from. */
const usual: Partial<LongTerm> = { weeks: 8, months: 12 };
const choices: Record<Unit, readonly number[]> = {
  weeks: [0, 4, 8, 12, 26, 52],
  months: [0, 3, 6, 12, 24, 60],
  years: [0, 1, 3, 5, 7, 10],
};

/** The long-term points of a retention, as a sentence. */
@Component({
  selector: 'lx-long-term-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `
    @if (long()) {
      Beyond that, the first point of each week is kept for
      <lx-slot
        label="weekly points"
        [options]="options.weeks"
        [value]="rule().weeks"
        [text]="words('weeks')"
        (valueChange)="set({ weeks: $event })"
        [disabled]="disabled()"
      />, of each month for
      <lx-slot
        label="monthly points"
        [options]="options.months"
        [value]="rule().months"
        [text]="words('months')"
        (valueChange)="set({ months: $event })"
        [disabled]="disabled()"
      />, of each year for
      <lx-slot
        label="yearly points"
        [options]="options.years"
        [value]="rule().years"
        [text]="words('years')"
        (valueChange)="set({ years: $event })"
        [disabled]="disabled()"
      />; weeks begin on
      <lx-slot label="first day" [options]="days" [value]="rule().day" (valueChange)="set({ day: $event })" [disabled]="disabled()" />.
    } @else if (keep().by !== 'hand' && !disabled()) {
      <button type="button" class="act sm" (click)="set(usual)">Keep long-term points too</button>
    }
  `,
})
export class LongTermRule {
  readonly keep = input.required<Keep>();
  readonly disabled = input(false);
  readonly changed = output<Keep>();
  protected readonly usual = usual;
  protected readonly long = computed(() => {
    const keep = this.keep();
    return keep.by === 'hand' ? undefined : keep.longTerm;
  });
  protected readonly rule = computed(() => this.long() ?? none);
  protected readonly options = {
    weeks: this.choicesOf('weeks'),
    months: this.choicesOf('months'),
    years: this.choicesOf('years'),
  };
  protected readonly days: SlotOption<number>[] = weekdays.map((label, i) => ({ value: i + 1, label }));

  private choicesOf(unit: Unit): SlotOption<number>[] {
    return choices[unit].map((value) => ({ value, label: countWords(value, unit) }));
  }

  protected words(unit: Unit): string {
    return countWords(this.rule()[unit], unit);
  }

  protected set(change: Partial<LongTerm>): void {
    const keep = this.keep();
    if (keep.by === 'hand') return;
    const longTerm = { ...this.rule(), ...change };
    const { longTerm: _before, ...plain } = keep;
    this.changed.emit(longTerm.weeks || longTerm.months || longTerm.years ? { ...plain, longTerm } : plain);
  }
}

function countWords(n: number, unit: Unit): string {
  return n === 0 ? `no ${unit}` : countOf(n, unit.slice(0, -1));
}
