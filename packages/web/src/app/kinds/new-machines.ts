import { computed, Injectable, signal } from '@angular/core';
import type { SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

/** Where new machines go, said once for all of them. */
export interface NewPlace {
  readonly platformId: number;
  readonly host: string;
  readonly folder: string;
  readonly storage: string;
  /** Null keeps the networks they had. */
  readonly networks: string[] | null;
  readonly suffix: string;
}

/** What is different for one machine of those that go to a platform. */
export interface OwnPlace {
  readonly name?: string;
  /** By label of the disk. */
  readonly storages?: Readonly<Record<string, string>>;
}

/** The new machines of a restore while it is being asked for: one place for all, and what is different for some, by point. */
@Injectable({ providedIn: 'root' })
export class NewMachines {
  readonly place = signal<NewPlace | null>(null);
  readonly owns = signal<ReadonlyMap<string, OwnPlace>>(new Map());
  /** What the chosen host sees. */
  readonly storages = signal<readonly SlotOption<string>[]>([]);
  readonly destination = computed((): Destination | null => {
    const place = this.place();
    if (!place?.host || !place.storage) return null;
    return { to: 'platform', ...place, exceptions: [...this.owns()].map(([pointId, own]) => ({ pointId, ...own })) };
  });

  setOwn(pointId: string, own: OwnPlace): void {
    this.owns.update((owns) => new Map(owns).set(pointId, own));
  }

  forget(): void {
    this.place.set(null);
    this.owns.set(new Map());
    this.storages.set([]);
  }
}
