import { ChangeDetectionStrategy, Component, computed, effect, inject, input } from '@angular/core';
import { formatBytes } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';
import { NewMachines, type NewPlace } from './new-machines';
import { PlatformChoice } from './platform-choice';

/** The part of the restore sentence that says where on which platform: only what the platform really has can be chosen. */
@Component({
  selector: 'lx-machine-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `@if (from.platforms(); as list) {
    @if (list.length === 0) {
      <span class="f">No platform is connected.</span>
    } @else {
      <lx-slot label="platform" [options]="from.options()" [value]="from.platform()" (valueChange)="from.platform.set($event)" />
      @if (from.failure(); as f) {
        <span class="f">{{ f.message }}</span>
      } @else if (from.places()) {
        on host
        <lx-slot
          label="host"
          [options]="from.hosts()"
          [value]="host()"
          (valueChange)="set({ host: $event, storage: '', networks: null })"
        />, disks on <lx-slot label="storage" [options]="storages()" [value]="storage()" (valueChange)="set({ storage: $event })" />, in
        folder
        <lx-slot
          label="folder"
          free="a folder, from /"
          [options]="from.folders()"
          [value]="place()?.folder ?? ''"
          (valueChange)="setFolder($event)"
        />, with
        <lx-slot
          label="network"
          [options]="networks()"
          [value]="place()?.networks?.[0] ?? ''"
          (valueChange)="set({ networks: $event ? [$event] : null })"
        />; their names get
        <input
          class="field suffix"
          aria-label="put behind the names"
          placeholder="nothing behind"
          [value]="place()?.suffix ?? ''"
          (change)="set({ suffix: suffix.value })"
          #suffix
        />
      } @else {
        <span class="mute">asking the platform …</span>
      }
    }
  }`,
  styles: '.suffix { width: 110px; }',
})
export class MachinePlace {
  protected readonly from = new PlatformChoice();
  private readonly chosen = inject(NewMachines);
  readonly changed = input.required<(destination: Destination | null) => void>();
  protected readonly place = this.chosen.place;
  protected readonly host = computed(() => this.place()?.host ?? '');
  protected readonly storage = computed(() => this.place()?.storage ?? '');
  /** What the chosen host sees, to choose from. */
  protected readonly storages = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose one' },
    ...(this.from.places()?.storages ?? [])
      .filter((s) => s.hosts.includes(this.host()))
      .map((s) => ({ value: s.name, label: s.name, note: `${formatBytes(Math.max(0, s.capacity - s.used))} free` })),
  ]);
  protected readonly networks = computed((): SlotOption<string>[] => [
    { value: '', label: 'the networks they had' },
    ...this.from.networks(this.host()),
  ]);

  constructor() {
    this.chosen.forget();
    effect(() => {
      this.chosen.storages.set(this.storages());
    });
    effect(() => {
      this.changed()(this.chosen.destination());
    });
  }

  protected set(change: Partial<NewPlace>): void {
    const before = this.place() ?? { host: '', folder: '/Restored', storage: '', networks: null, suffix: '' };
    this.place.set({ ...before, platformId: this.from.platform(), ...change });
  }

  protected setFolder(folder: string): void {
    this.set({ folder: folder.startsWith('/') ? folder : `/${folder}` });
  }
}
