import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { ScriptName, type Scripts } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';

const lengths = [1, 5, 15, 30, 60, 120];

/** What runs on the mover before and after, as a sentence. */
@Component({
  selector: 'lx-script-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `
    @if (scripts().before || scripts().after || !disabled()) {
      Before each workload
      <lx-slot
        label="script before"
        [options]="optionsOf('before')"
        [value]="scripts().before ?? ''"
        (valueChange)="set({ before: $event || null })"
        free="or type the name of a script"
        (entered)="typed('before', $event)"
        [disabled]="disabled()"
      />
      runs, after it
      <lx-slot
        label="script after"
        [options]="optionsOf('after')"
        [value]="scripts().after ?? ''"
        (valueChange)="set({ after: $event || null })"
        free="or type the name of a script"
        (entered)="typed('after', $event)"
        [disabled]="disabled()"
      />
      {{ any() ? ', each for at most ' : '.' }}
      @if (any()) {
        <lx-slot
          label="time for a script"
          [options]="minutes"
          [value]="scripts().minutes"
          (valueChange)="set({ minutes: $event })"
          [disabled]="disabled()"
        />
        of those in the scripts folder of the mover
      }
    }
  `,
})
export class ScriptRule {
  readonly scripts = input.required<Scripts>();
  readonly disabled = input(false);
  readonly changed = output<Scripts>();
  protected readonly minutes: SlotOption<number>[] = lengths.map((n) => ({ value: n, label: countOf(n, 'minute') }));
  protected readonly any = computed(() => Boolean(this.scripts().before ?? this.scripts().after));

  protected optionsOf(which: 'before' | 'after'): SlotOption<string>[] {
    const known = this.scripts()[which];
    return [{ value: '', label: 'nothing' }, ...(known ? [{ value: known, label: known }] : [])];
  }

  protected set(part: Partial<Scripts>): void {
    this.changed.emit({ ...this.scripts(), ...part });
  }

  protected typed(which: 'before' | 'after', text: string): void {
    if (ScriptName.safeParse(text).success) this.set({ [which]: text });
  }
}
