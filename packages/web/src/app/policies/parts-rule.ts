import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { PolicyRule } from '@lithodex/contract';
import { partsWords } from '../kinds/tenant-words';
import { Slot, type SlotOption } from '../ui/slot';

type Parts = PolicyRule['parts'];

const choices: readonly Parts[] = [
  [],
  ['Mail'],
  ['Calendars', 'Contacts'],
  ['Mail', 'Calendars', 'Contacts'],
  ['Drive', 'Files'],
  ['Chat'],
];
const keyOf = (parts: Parts) => parts.join(' ');

/** What of people and sites a rule reads, as a sentence. */
@Component({
  selector: 'lx-parts-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `
    @if (parts().length || !disabled()) {
      Of people and sites read
      <lx-slot label="parts" [options]="options()" [value]="key()" [text]="words()" (valueChange)="set($event)" [disabled]="disabled()" />{{
        parts().length ? ', the rest stays as it was read last.' : '.'
      }}
    }
  `,
})
export class PartsRule {
  readonly parts = input.required<Parts>();
  readonly disabled = input(false);
  readonly changed = output<Parts>();
  protected readonly key = computed(() => keyOf(this.parts()));
  protected readonly words = computed(() => partsWords(this.parts()));
  /** Also one that no choice names, where a policy says so. */
  protected readonly options = computed((): SlotOption<string>[] => {
    const own = choices.some((c) => keyOf(c) === this.key()) ? [] : [this.parts()];
    return [...choices, ...own].map((c) => ({
      value: keyOf(c),
      label: partsWords(c),
      ...(c.length === 0 && { note: 'with every point' }),
    }));
  });

  protected set(key: string): void {
    const chosen = [...choices, this.parts()].find((c) => keyOf(c) === key);
    if (chosen) this.changed.emit([...chosen]);
  }
}
