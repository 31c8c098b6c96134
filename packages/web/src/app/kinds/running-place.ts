import { ChangeDetectionStrategy, Component, computed, effect, input, signal } from '@angular/core';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';
import { PlatformChoice } from './platform-choice';

const GB = 1e9;

/** The part of the restore sentence that says where machines run straight from the store. */
@Component({
  selector: 'lx-running-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `@if (from.platforms(); as list) {
    @if (list.length === 0) {
      <span class="f">No platform is connected.</span>
    } @else {
      on <lx-slot label="platform" [options]="from.options()" [value]="from.platform()" (valueChange)="choose($event)" />
      @if (from.failure(); as f) {
        <span class="f">{{ f.message }}</span>
      } @else if (from.places()) {
        at host <lx-slot label="host" [options]="from.hosts()" [value]="host()" (valueChange)="setHost($event)" /> with
        <lx-slot label="network" [options]="networks()" [value]="network()" (valueChange)="network.set($event)" />, in folder
        <lx-slot
          label="folder"
          free="a folder, from /"
          [options]="from.folders()"
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
  protected readonly from = new PlatformChoice();
  readonly changed = input.required<(destination: Destination | null) => void>();
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
  protected readonly networks = computed((): SlotOption<string>[] => [
    { value: '', label: 'no network', note: 'to be looked at in peace' },
    ...this.from.networks(this.host()),
  ]);

  constructor() {
    effect(() => {
      const host = this.host();
      const overlay = { folder: this.overlay(), most: this.most() };
      const networks = this.network() ? [this.network()] : [];
      const place = {
        to: 'running' as const,
        platformId: this.from.platform(),
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
    this.from.platform.set(platform);
    this.setHost('');
  }

  protected setHost(host: string): void {
    this.host.set(host);
    this.network.set('');
  }
}
