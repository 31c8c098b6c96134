import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { PolicyRule } from '@lithodex/contract';
import { Slot, type SlotOption } from '../ui/slot';

type Rhythm = PolicyRule['synthetic'];
type Choice = NonNullable<Rhythm> | 'never';

/** How often a full is put together on the target, as a sentence. */
@Component({
  selector: 'lx-synthetic-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `
    @if (rhythm() || !disabled()) {
      {{ rhythm() ? 'Put a full together on the target' : 'A full is' }}
      <lx-slot
        label="synthetic full"
        [options]="options"
        [value]="value()"
        [text]="words()"
        (valueChange)="set($event)"
        [disabled]="disabled()"
      />{{ rhythm() ? ', from what is there, all of it read again.' : ' put together on the target.' }}
    }
  `,
})
export class SyntheticRule {
  readonly rhythm = input.required<Rhythm>();
  readonly disabled = input(false);
  readonly changed = output<Rhythm>();
  protected readonly value = computed((): Choice => this.rhythm() ?? 'never');
  protected readonly options: SlotOption<Choice>[] = [
    { value: 'never', label: 'never', note: 'every point is whole by itself anyway' },
    { value: 'week', label: 'every week', note: 'after its first point; the source is not read' },
    { value: 'month', label: 'every month', note: 'after its first point; the source is not read' },
  ];
  protected readonly words = computed(() => this.options.find((o) => o.value === this.value())!.label);

  protected set(value: Choice): void {
    this.changed.emit(value === 'never' ? null : value);
  }
}
