import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import type { Estate } from '@lithodex/contract';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

const mostMachines = 500;

/** The part of the restore sentence that says over which machine. */
@Component({
  selector: 'lx-over-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `<lx-slot label="machine" [options]="machines()" [value]="machine()" (valueChange)="machine.set($event)" />, of which only what
    differs is read and written`,
})
export class OverPlace {
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly estate = toSignal(
    inject(Api)
      .call('estate', { query: { limit: mostMachines } })
      .pipe(outcome<Estate>()),
  );
  protected readonly machine = signal(0);
  protected readonly machines = computed((): SlotOption<number>[] => [
    { value: 0, label: 'choose one' },
    ...(this.estate()?.value?.workloads ?? [])
      .filter((w) => w.machine && w.gone === null && !w.machine.template && !w.machine.cloud)
      .map((w) => ({ value: w.id, label: w.name, note: `${w.source.name}, ${w.machine?.host ?? ''}` })),
  ]);

  constructor() {
    effect(() => {
      this.changed()(this.machine() ? { to: 'over', workloadId: this.machine() } : null);
    });
  }
}
