import { computed, Injectable, signal } from '@angular/core';
import type { CloudOffers } from '@lithodex/kinds';
import type { Destination } from './kind-parts';

/** Where new instances go, said once for all of them. */
export interface CloudChoice {
  readonly platformId: number;
  readonly region: string;
  /** Null for the cheapest that fits. */
  readonly size: string | null;
  readonly network: string;
  readonly groups: string[];
  readonly publicAddress: boolean;
  readonly class: string;
  readonly suffix: string;
  readonly ahead: boolean;
  /** After which it is removed; null for one that stays. */
  readonly hours: number | null;
}

/** What is different for one of them. */
export interface OwnInstance {
  readonly name?: string;
  readonly size?: string;
  readonly leaveOut?: string[];
}

/** The new instances of a restore while it is being asked for: one place for all, and what is different for some, by point. */
@Injectable({ providedIn: 'root' })
export class NewInstances {
  readonly place = signal<CloudChoice | null>(null);
  readonly owns = signal<ReadonlyMap<string, OwnInstance>>(new Map());
  /** What can be had in the chosen cloud. */
  readonly offers = signal<CloudOffers | null>(null);
  readonly destination = computed((): Destination | null => {
    const place = this.place();
    if (!place?.region || !place.network || !place.class) return null;
    return { to: 'cloud', ...place, exceptions: [...this.owns()].map(([pointId, own]) => ({ pointId, ...own })) };
  });

  setOwn(pointId: string, own: OwnInstance): void {
    this.owns.update((owns) => new Map(owns).set(pointId, own));
  }

  forget(): void {
    this.place.set(null);
    this.owns.set(new Map());
    this.offers.set(null);
  }
}
