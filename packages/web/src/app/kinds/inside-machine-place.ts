import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import type { Estate } from '@lithodex/contract';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

const mostMachines = 500;

/** The part of the restore sentence that says into which machine that runs, and into which folder of it. */
@Component({
  selector: 'lx-inside-machine-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<lx-slot label="machine" [options]="machines()" [value]="machine()" (valueChange)="machine.set($event)" />, into
    <input
      class="field folder num"
      aria-label="Folder inside"
      placeholder="/var/returned"
      [ngModel]="folder()"
      (ngModelChange)="folder.set($event)"
    />, <lx-slot label="path" [options]="paths" [value]="keepPath()" (valueChange)="keepPath.set($event)" /> their path in the volume`,
  styles: '.folder { width: 220px; }',
})
export class InsideMachinePlace {
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly estate = toSignal(
    inject(Api)
      .call('estate', { query: { limit: mostMachines } })
      .pipe(outcome<Estate>()),
  );
  protected readonly machine = signal(0);
  protected readonly folder = signal('');
  protected readonly keepPath = signal(false);
  protected readonly paths: SlotOption<boolean>[] = [
    { value: false, label: 'without' },
    { value: true, label: 'keeping' },
  ];
  protected readonly machines = computed((): SlotOption<number>[] => [
    { value: 0, label: 'choose one' },
    ...(this.estate()?.value?.workloads ?? [])
      .filter((w) => w.kind === 'machine' && w.gone === null && w.machine?.template === false)
      .map((w) => ({ value: w.id, label: w.name, note: w.machine?.running ? (w.machine.system ?? '') : 'off' })),
  ]);
  private readonly destination = computed((): Destination | null =>
    this.machine() && this.folder().startsWith('/')
      ? { to: 'inside', workloadId: this.machine(), folder: this.folder(), keepPath: this.keepPath() }
      : null,
  );

  constructor() {
    effect(() => {
      this.changed()(this.destination());
    });
  }
}
