import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import type { RestorePlan } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';
import { NewMachines, type OwnPlace } from './new-machines';

/** Another name for one of the machines, and other storages for its disks. */
@Component({
  selector: 'lx-machine-own',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `<input
      class="field d-block"
      [attr.aria-label]="'Another name for ' + item().name"
      placeholder="under another name"
      [value]="own()?.name ?? ''"
      (change)="rename(nn.value)"
      #nn
    />
    @for (disk of item().disks; track disk.label) {
      <span class="small nowrap d-block">
        {{ disk.label }} on
        <lx-slot
          [label]="'storage of ' + disk.label + ' of ' + item().name"
          [options]="choices()"
          [value]="own()?.storages?.[disk.label] ?? ''"
          [text]="own()?.storages?.[disk.label] ?? common()"
          (valueChange)="place(disk.label, $event)"
        />
        <span class="mute">{{ bytes(disk.size) }}</span>
      </span>
    }`,
})
export class MachineOwn {
  readonly item = input.required<RestorePlan['items'][number]>();
  private readonly machines = inject(NewMachines);
  protected readonly own = computed((): OwnPlace | undefined => this.machines.owns().get(this.item().pick.pointId));
  /** The storage said for all. */
  protected readonly common = computed(() => this.machines.place()?.storage ?? '');
  protected readonly bytes = formatBytes;
  protected readonly choices = computed((): SlotOption<string>[] => [
    { value: '', label: `${this.common()}, as all` },
    ...this.machines.storages().filter((s) => s.value && s.value !== this.common()),
  ]);

  protected rename(text: string): void {
    const { name: _before, ...rest } = this.own() ?? {};
    const name = text.trim();
    this.machines.setOwn(this.item().pick.pointId, { ...rest, ...(name && { name }) });
  }

  protected place(label: string, storage: string): void {
    const storages = Object.fromEntries(Object.entries(this.own()?.storages ?? {}).filter(([other]) => other !== label));
    if (storage) storages[label] = storage;
    this.machines.setOwn(this.item().pick.pointId, { ...this.own(), storages });
  }
}
