import { ChangeDetectionStrategy, Component, computed, effect, inject, input } from '@angular/core';
import { countOf, formatDuration, formatPrice, sizeMonth } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';
import { NewInstances, type CloudChoice } from './new-instances';
import { PlatformChoice } from './platform-choice';

const nowhere = { region: '', size: null, network: '', groups: [], publicAddress: false, class: '', suffix: '', ahead: false, hours: null };

/** A size in words: what it has, and what it costs a month that runs all the time. */
export function sizeWords(size: { processors: number; memory: number; perHour: number }, currency: string): string {
  return `${countOf(size.processors, 'processor')}, ${size.memory} MB of memory, ${formatPrice(sizeMonth(size), currency)} a month`;
}

/** The part of the restore sentence that says where in which cloud: only what can be had there can be chosen, each with its price. */
@Component({
  selector: 'lx-cloud-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `@if (from.platforms(); as list) {
    @if (list.length === 0) {
      <span class="f">No cloud is connected.</span>
    } @else {
      <lx-slot label="cloud" [options]="from.options()" [value]="from.platform()" (valueChange)="choose($event)" />
      @if (from.failure(); as f) {
        <span class="f">{{ f.message }}</span>
      } @else if (from.places()) {
        in region
        <lx-slot label="region" [options]="regions()" [value]="place().region" (valueChange)="setRegion($event)" />,
        <lx-slot label="what is sent" [options]="kinds" [value]="place().ahead" (valueChange)="set({ ahead: $event })" />, disks of class
        <lx-slot label="class" [options]="classes()" [value]="place().class" (valueChange)="set({ class: $event })" />, with
        <lx-slot label="network" [options]="networks()" [value]="place().network" (valueChange)="set({ network: $event })" />
        @if (!place().ahead) {
          and size
          <lx-slot label="size" [options]="sizes()" [value]="place().size ?? ''" (valueChange)="set({ size: $event || null })" />, group
          <lx-slot
            label="group"
            free="a group, made if it is not there"
            [options]="groups()"
            [value]="place().groups[0] ?? ''"
            [text]="place().groups[0]"
            (valueChange)="set({ groups: $event ? [$event] : [] })"
            (entered)="set({ groups: [$event] })"
          />,
          <lx-slot
            label="address"
            [options]="addresses()"
            [value]="place().publicAddress"
            (valueChange)="set({ publicAddress: $event })"
          />; <lx-slot label="stay" [options]="stays" [value]="place().hours" (valueChange)="set({ hours: $event })" />; their names get
          <input
            class="field suffix"
            aria-label="put behind the names"
            placeholder="nothing behind"
            [value]="place().suffix"
            (change)="set({ suffix: suffix.value.trim() })"
            #suffix
          />
        }
      } @else {
        <span class="mute">asking the cloud …</span>
      }
    }
  }`,
  styles: '.suffix { width: 110px; }',
})
export class CloudPlace {
  protected readonly from = new PlatformChoice('cloud');
  private readonly chosen = inject(NewInstances);
  readonly changed = input.required<(destination: Destination | null) => void>();
  protected readonly place = computed((): Omit<CloudChoice, 'platformId'> => this.chosen.place() ?? nowhere);
  private readonly offers = computed(() => this.from.places()?.cloud ?? null);
  private readonly region = computed(() => this.offers()?.regions.find((r) => r.name === this.place().region));
  protected readonly kinds: SlotOption<boolean>[] = [
    { value: false, label: 'as a new machine' },
    {
      value: true,
      label: 'only the disks, ahead of it',
      note: 'so that the machine itself takes minutes later: only what changed since is sent',
    },
  ];
  protected readonly stays: SlotOption<number | null>[] = [
    { value: null, label: 'it stays' },
    ...[4, 24, 72, 168].map((hours) => ({
      value: hours,
      label: `it is removed after ${formatDuration(hours * 3_600_000)}`,
      note: 'for a trial: no policy takes it',
    })),
  ];
  protected readonly regions = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose one' },
    ...(this.offers()?.regions ?? []).map((r) => ({ value: r.name, label: r.name, note: r.place || 'place unknown' })),
  ]);
  protected readonly networks = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose a network' },
    ...[...(this.region()?.networks ?? [])]
      .sort((a, b) => Number(b.isolated) - Number(a.isolated))
      .map(({ name, isolated }) => ({
        value: name,
        label: `the ${isolated ? 'isolated ' : ''}network ${name}`,
        ...(isolated && { note: 'leads nowhere else' }),
      })),
  ]);
  protected readonly classes = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose one' },
    ...(this.offers()?.classes ?? [])
      .filter((c) => c.regions.includes(this.place().region))
      .sort((a, b) => a.perGBMonth - b.perGBMonth)
      .map((c) => ({ value: c.name, label: c.name, note: `${formatPrice(c.perGBMonth, this.offers()!.currency)} for a GB a month` })),
  ]);
  protected readonly sizes = computed((): SlotOption<string>[] => [
    { value: '', label: 'the cheapest that fits', note: 'as many processors and as much memory as it had' },
    ...[...(this.offers()?.sizes ?? [])]
      .sort((a, b) => a.perHour - b.perHour)
      .map((s) => ({ value: s.name, label: s.name, note: sizeWords(s, this.offers()!.currency) })),
  ]);
  protected readonly groups = computed((): SlotOption<string>[] => [
    { value: '', label: 'none' },
    ...(this.region()?.groups ?? []).map((g) => ({ value: g, label: g })),
  ]);
  protected readonly addresses = computed((): SlotOption<boolean>[] => [
    { value: false, label: 'no public address' },
    {
      value: true,
      label: 'a public address',
      note: `reached from everywhere, ${formatPrice(this.offers()?.addressPerMonth ?? 0, this.offers()?.currency ?? '')} a month`,
    },
  ]);

  constructor() {
    this.chosen.forget();
    effect(() => {
      this.chosen.offers.set(this.offers());
    });
    effect(() => {
      this.changed()(this.chosen.destination());
    });
  }

  protected set(change: Partial<CloudChoice>): void {
    this.chosen.place.set({ ...this.place(), platformId: this.from.platform(), ...change });
  }

  protected setRegion(region: string): void {
    this.set({ region, network: '', class: '', groups: [] });
  }

  protected choose(platform: number): void {
    this.from.platform.set(platform);
    this.chosen.forget();
  }
}
