import { computed, inject, linkedSignal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { Platform, PlatformPlaces } from '@lithodex/contract';
import { of, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import type { SlotOption } from '../ui/slot';

/** A platform that one chooses, and what it has to choose from: only that can be chosen. Made where one may inject. */
export class PlatformChoice {
  private readonly api = inject(Api);
  private readonly listed = toSignal(this.api.call('listPlatforms').pipe(outcome()));
  readonly platforms = computed((): readonly Platform[] | undefined => this.listed()?.value?.rows.filter((p) => p.family === this.family));
  readonly platform = linkedSignal(() => this.platforms()?.[0]?.id ?? 0);
  private readonly asked = toSignal(
    toObservable(this.platform).pipe(
      switchMap((id) => (id ? this.api.call('platformPlaces', { id }).pipe(outcome<PlatformPlaces>()) : of<Outcome<PlatformPlaces>>({}))),
    ),
  );
  readonly places = computed(() => this.asked()?.value);
  readonly failure = computed(() => this.asked()?.failure);
  readonly options = computed(() => (this.platforms() ?? []).map((p) => ({ value: p.id, label: p.name })));
  readonly hosts = computed((): SlotOption<string>[] => [
    { value: '', label: 'choose one' },
    ...(this.places()?.clusters ?? []).flatMap((c) =>
      c.hosts.map((h) => ({ value: h, label: h, note: `${c.name}, ${c.location || 'place unknown'}` })),
    ),
  ]);
  readonly folders = computed(() => (this.places()?.folders ?? []).map((f) => ({ value: f, label: f })));

  constructor(private readonly family: Platform['family'] = 'hosts') {}

  /** The networks that a host has, those that lead nowhere else first. */
  networks(host: string): SlotOption<string>[] {
    const cluster = this.places()?.clusters.find((c) => c.hosts.includes(host));
    const isolated = cluster?.isolated ?? [];
    const others = (cluster?.networks ?? []).filter((n) => !isolated.includes(n));
    return [
      ...isolated.map((n) => ({ value: n, label: `the isolated network ${n}`, note: 'leads nowhere else' })),
      ...others.map((n) => ({ value: n, label: `the network ${n}` })),
    ];
  }
}
