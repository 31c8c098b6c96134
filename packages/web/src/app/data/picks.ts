import { effect, Injectable, signal } from '@angular/core';

export interface PickedItem {
  readonly pointId: string;
  readonly path: string;
  readonly workload: string;
  readonly moment: number;
  readonly kind: string;
  readonly size: number;
}

const keyOf = (p: Pick<PickedItem, 'pointId' | 'path'>) => `${p.pointId} ${p.path}`;

function load(): PickedItem[] {
  try {
    return JSON.parse(sessionStorage.getItem('lx-picks') ?? '[]') as PickedItem[];
  } catch {
    return [];
  }
}

/** The pick list: items gathered for a restore, across workloads and moments. */
@Injectable({ providedIn: 'root' })
export class Picks {
  private readonly list = signal<PickedItem[]>(load());
  readonly items = this.list.asReadonly();

  constructor() {
    effect(() => {
      sessionStorage.setItem('lx-picks', JSON.stringify(this.list()));
    });
  }

  has(item: Pick<PickedItem, 'pointId' | 'path'>): boolean {
    return this.list().some((p) => keyOf(p) === keyOf(item));
  }

  toggle(item: PickedItem): void {
    this.list.update((list) =>
      list.some((p) => keyOf(p) === keyOf(item)) ? list.filter((p) => keyOf(p) !== keyOf(item)) : [...list, item],
    );
  }

  add(items: readonly PickedItem[]): void {
    this.list.update((list) => [...new Map([...list, ...items].map((p) => [keyOf(p), p])).values()]);
  }

  clear(): void {
    this.list.set([]);
  }
}
