import { ChangeDetectionStrategy, Component, computed, inject, input, model } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { formatList } from '@lithodex/core';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Slot, type SlotOption } from '../ui/slot';

/** Which mover reads a source, as a sentence; one that keeps nothing gives what it reads to others. */
@Component({
  selector: 'lx-read-by',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `<div class="sentence">
    It is read by
    <lx-slot label="mover" [options]="options()" [value]="mover()" (valueChange)="mover.set($event)" [disabled]="disabled()" />.
  </div>`,
})
export class ReadBy {
  /** null: whichever comes first. */
  readonly mover = model.required<string | null>();
  readonly disabled = input(false);
  private readonly listed = toSignal(inject(Api).call('listMovers').pipe(outcome()));
  protected readonly options = computed((): SlotOption<string | null>[] => {
    const rows = (this.listed()?.value?.rows ?? []).filter((m) => m.duties.includes('capture'));
    const own = this.mover();
    const unknown = own === null || rows.some((m) => m.name === own) ? [] : [{ value: own, label: own }];
    return [
      { value: null, label: 'whichever mover comes first', note: 'each of them has to reach it' },
      ...rows.map(({ name, duties, present }) => ({
        value: name,
        label: name,
        note: formatList([
          ...(duties.includes('keep') ? [] : ['has no keys: it gives what it reads to a mover that keeps']),
          ...(present ? [] : ['does not answer now']),
        ]),
      })),
      ...unknown,
    ];
  });
}
