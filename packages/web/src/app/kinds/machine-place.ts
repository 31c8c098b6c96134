import { ChangeDetectionStrategy, Component, computed, effect, inject, input, linkedSignal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { Platform, PlatformPlaces } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { of, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';
import { NewMachines, type NewPlace } from './new-machines';

/** The part of the restore sentence that says where on which platform: only what the platform really has can be chosen. */
@Component({
  selector: 'lx-machine-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `@if (platforms(); as list) {
    @if (list.length === 0) {
      <span class="f">No platform is connected.</span>
    } @else {
      <lx-slot label="platform" [options]="platformOptions()" [value]="platform()" (valueChange)="platform.set($event)" />
      @if (failure(); as f) {
        <span class="f">{{ f.message }}</span>
      } @else if (places()) {
        on host
        <lx-slot label="host" [options]="hosts()" [value]="host()" (valueChange)="set({ host: $event, storage: '', networks: null })" />,
        disks on <lx-slot label="storage" [options]="storages()" [value]="storage()" (valueChange)="set({ storage: $event })" />, in folder
        <lx-slot
          label="folder"
          free="a folder, from /"
          [options]="folders()"
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
  private readonly api = inject(Api);
  private readonly chosen = inject(NewMachines);
  readonly changed = input.required<(destination: Destination | null) => void>();
  protected readonly place = this.chosen.place;
  private readonly listed = toSignal(this.api.call('listPlatforms').pipe(outcome()));
  protected readonly platforms = computed((): readonly Platform[] | undefined => this.listed()?.value?.rows);
  protected readonly platform = linkedSignal(() => this.platforms()?.[0]?.id ?? 0);
  private readonly asked = toSignal(
    toObservable(this.platform).pipe(
      switchMap((id) => (id ? this.api.call('platformPlaces', { id }).pipe(outcome<PlatformPlaces>()) : of<Outcome<PlatformPlaces>>({}))),
    ),
  );
  protected readonly places = computed(() => this.asked()?.value);
  protected readonly failure = computed(() => this.asked()?.failure);
  protected readonly host = computed(() => this.place()?.host ?? '');
  protected readonly storage = computed(() => this.place()?.storage ?? '');
  protected readonly platformOptions = computed(() => (this.platforms() ?? []).map((p) => ({ value: p.id, label: p.name })));
  protected readonly hosts = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose one' },
    ...(this.places()?.clusters ?? []).flatMap((c) =>
      c.hosts.map((h) => ({ value: h, label: h, note: `${c.name}, ${c.location || 'place unknown'}` })),
    ),
  ]);
  /** What the chosen host sees, to choose from. */
  protected readonly storages = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose one' },
    ...(this.places()?.storages ?? [])
      .filter((s) => s.hosts.includes(this.host()))
      .map((s) => ({ value: s.name, label: s.name, note: `${formatBytes(Math.max(0, s.capacity - s.used))} free` })),
  ]);
  protected readonly folders = computed(() => (this.places()?.folders ?? []).map((f) => ({ value: f, label: f })));
  protected readonly networks = computed((): SlotOption<string>[] => [
    { value: '', label: 'the networks they had' },
    ...(this.places()?.clusters.find((c) => c.hosts.includes(this.host()))?.networks ?? []).map((n) => ({
      value: n,
      label: `the network ${n}`,
    })),
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
    this.place.set({ ...before, platformId: this.platform(), ...change });
  }

  protected setFolder(folder: string): void {
    this.set({ folder: folder.startsWith('/') ? folder : `/${folder}` });
  }
}
