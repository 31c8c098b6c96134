import { Injectable, signal } from '@angular/core';
import type { RestorePlan } from '@lithodex/contract';

/** An item that is picked. */
type Picked = RestorePlan['items'][number]['pick'];
const keyOf = ({ pointId, path }: Picked) => `${pointId} ${path}`;

/** Where single items of a restore go below its folder, while it is being asked for. */
@Injectable({ providedIn: 'root' })
export class OwnFolders {
  private readonly said = signal<ReadonlyMap<string, Picked & { readonly as: string }>>(new Map());

  of(pick: Picked): string {
    return this.said().get(keyOf(pick))?.as ?? '';
  }

  all(): (Picked & { readonly as: string })[] {
    return [...this.said().values()];
  }

  /** '' takes the exception back. */
  set({ pointId, path }: Picked, text: string): void {
    const as = text.trim().replace(/^\/+|\/+$/g, '');
    const said = new Map(this.said());
    if (as) said.set(keyOf({ pointId, path }), { pointId, path, as });
    else said.delete(keyOf({ pointId, path }));
    this.said.set(said);
  }

  forget(): void {
    this.said.set(new Map());
  }
}
