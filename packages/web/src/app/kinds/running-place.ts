import { ChangeDetectionStrategy, Component, computed, effect, inject, input, linkedSignal, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { Platform, PlatformPlaces } from '@lithodex/contract';
import { of, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

const GB = 1e9;

/** The part of the restore sentence that says where machines run straight from the store. */
@Component({
  selector: 'lx-running-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `@if (platforms(); as list) {
    @if (list.length === 0) {
      <span class="f">No platform is connected.</span>
    } @else {
      on <lx-slot label="platform" [options]="platformOptions()" [value]="platform()" (valueChange)="choose($event)" />
      @if (failure(); as f) {
        <span class="f">{{ f.message }}</span>
      } @else if (places()) {
        at host <lx-slot label="host" [options]="hosts()" [value]="host()" (valueChange)="setHost($event)" /> with
        <lx-slot label="network" [options]="networks()" [value]="network()" (valueChange)="network.set($event)" />, in folder
        <lx-slot
          label="folder"
          free="a folder, from /"
          [options]="folders()"
          [value]="folder()"
          [text]="folder()"
          (valueChange)="folder.set($event)"
          (entered)="folder.set($event.startsWith('/') ? $event : '/' + $event)"
        />; their names get
        <input
          class="field suffix"
          aria-label="put behind the names"
          placeholder="nothing behind"
          [value]="suffix()"
          (change)="suffix.set(name.value.trim())"
          #name
        />, what they write has <lx-slot label="room" [options]="rooms" [value]="most()" (valueChange)="most.set($event)" /> in
        <lx-slot
          label="overlay"
          free="a folder of the mover, from /"
          [options]="overlays"
          [value]="overlay()"
          [text]="overlay() || undefined"
          (valueChange)="overlay.set($event)"
          (entered)="overlay.set($event.startsWith('/') ? $event : '/' + $event)"
        />
      } @else {
        <span class="mute">asking the platform …</span>
      }
    }
  }`,
  styles: '.suffix { width: 110px; }',
})
export class RunningPlace {
  private readonly api = inject(Api);
  readonly changed = input.required<(destination: Destination | null) => void>();
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
  protected readonly host = signal('');
  /** '' for none. */
  protected readonly network = signal('');
  protected readonly folder = signal('/Restored');
  protected readonly suffix = signal('-again');
  /** Bytes. */
  protected readonly most = signal(20 * GB);
  /** '' for the mover's own. */
  protected readonly overlay = signal('');
  protected readonly rooms: SlotOption<number>[] = [1, 5, 20, 100, 500].map((n) => ({ value: n * GB, label: `up to ${n} GB` }));
  protected readonly overlays: SlotOption<string>[] = [{ value: '', label: 'the own place of the mover' }];
  protected readonly platformOptions = computed(() => (this.platforms() ?? []).map((p) => ({ value: p.id, label: p.name })));
  protected readonly hosts = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose one' },
    ...(this.places()?.clusters ?? []).flatMap((c) =>
      c.hosts.map((h) => ({ value: h, label: h, note: `${c.name}, ${c.location || 'place unknown'}` })),
    ),
  ]);
  protected readonly folders = computed(() => (this.places()?.folders ?? []).map((f) => ({ value: f, label: f })));
  protected readonly networks = computed((): SlotOption<string>[] => [
    { value: '', label: 'no network', note: 'to be looked at in peace' },
    ...(this.places()?.clusters.find((c) => c.hosts.includes(this.host()))?.networks ?? []).map((n) => ({
      value: n,
      label: `the network ${n}`,
    })),
  ]);

  constructor() {
    effect(() => {
      const host = this.host();
      const overlay = { folder: this.overlay(), most: this.most() };
      const networks = this.network() ? [this.network()] : [];
      const place = {
        to: 'running' as const,
        platformId: this.platform(),
        host,
        folder: this.folder(),
        networks,
        suffix: this.suffix(),
        overlay,
      };
      this.changed()(host ? place : null);
    });
  }

  protected choose(platform: number): void {
    this.platform.set(platform);
    this.setHost('');
  }

  protected setHost(host: string): void {
    this.host.set(host);
    this.network.set('');
  }
}
