import { ChangeDetectionStrategy, Component, input, output } from '@angular/core';
import { Slot } from './slot';

const choices = [
  { value: 0, label: 'any number' },
  ...[1, 2, 3, 4, 6, 8, 12, 16, 32].map((n) => ({ value: n, label: n === 1 ? '1 task' : `${n} tasks` })),
];

/** How many tasks may do something at once; null for any number. */
@Component({
  selector: 'lx-at-once',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `<lx-slot
    [label]="label()"
    [options]="choices"
    [value]="limit() ?? 0"
    (valueChange)="limitChange.emit($event || null)"
    [disabled]="disabled()"
  />`,
})
export class AtOnce {
  readonly label = input.required<string>();
  readonly limit = input.required<number | null>();
  readonly disabled = input(false);
  readonly limitChange = output<number | null>();
  protected readonly choices = choices;
}
