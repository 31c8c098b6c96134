import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { Target } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';

const choices = [7, 14, 30, 60, 90, 180, 365, 1095];

/** Whether points can be locked on a target, and what a lock there is worth. */
function lockWorth(target: Target | undefined): 'none' | 'store' | 'service' {
  if (target?.place.kind === 'folder') return 'store';
  return target?.place.kind === 'bucket' && target.place.locks ? 'service' : 'none';
}

/** For how long points are locked on a target, as a sentence. */
@Component({
  selector: 'lx-lock-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `
    @if (worth() !== 'none') {
      @if (days() || !disabled()) {
        {{ days() ? 'Nobody can remove it for' : 'It is' }}
        <lx-slot
          label="lock"
          [options]="options"
          [value]="days() ?? 0"
          [text]="words()"
          (valueChange)="set($event)"
          free="or type 45 days"
          (entered)="typed($event)"
          [disabled]="disabled()"
        />.
        @if (days() && worth() === 'store') {
          <span class="mute small">The store keeps this; whoever administers the disk can still erase it.</span>
        }
      }
    } @else if (target() && days()) {
      <span class="f small">{{ target()?.name }} has no object lock, so nothing can be locked there.</span>
      <button type="button" class="act sm" (click)="changed.emit(null)">Without the lock</button>
    }
  `,
})
export class LockRule {
  readonly days = input.required<number | null>();
  readonly target = input.required<Target | undefined>();
  readonly disabled = input(false);
  readonly changed = output<number | null>();
  protected readonly worth = computed(() => lockWorth(this.target()));
  protected readonly options: SlotOption<number>[] = [
    { value: 0, label: 'not locked' },
    ...choices.map((n) => ({ value: n, label: countOf(n, 'day') })),
  ];
  protected readonly words = computed(() => {
    const days = this.days();
    return days ? countOf(days, 'day') : 'not locked';
  });

  protected set(days: number): void {
    this.changed.emit(days || null);
  }

  protected typed(text: string): void {
    const days = Number(/^(\d+)\s*(d|$)/i.exec(text.trim())?.[1]);
    if (days >= 1 && days <= 3650) this.changed.emit(days);
  }
}
