import { ChangeDetectionStrategy, Component, effect, input, signal } from '@angular/core';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

/** The part of the restore sentence that says how long something stays attached. */
@Component({
  selector: 'lx-attach-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `for <lx-slot label="hours" [options]="choices" [value]="hours()" (valueChange)="hours.set($event)" />`,
})
export class AttachPlace {
  readonly changed = input.required<(destination: Destination | null) => void>();
  readonly as = input<'device' | 'drive'>('device');
  protected readonly hours = signal(8);
  protected readonly choices: SlotOption<number>[] = [
    { value: 1, label: 'an hour' },
    { value: 8, label: '8 hours' },
    { value: 24, label: 'a day' },
    { value: 72, label: '3 days' },
  ];

  constructor() {
    effect(() => {
      this.changed()({ to: 'attached', as: this.as(), hours: this.hours() });
    });
  }
}
