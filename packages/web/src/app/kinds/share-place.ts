import { ChangeDetectionStrategy, Component, computed, effect, inject, input, linkedSignal, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Slot } from '../ui/slot';
import type { Destination } from './kind-parts';

/** The part of the restore sentence that says which share, and below which folder. */
@Component({
  selector: 'lx-share-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Slot],
  template: `@if (shares(); as list) {
    @if (list.length === 0) {
      <span class="f">No share is kept yet.</span> <a routerLink="/recover/shares">Keep one</a>
    } @else {
      <lx-slot label="share" [options]="options()" [value]="share()" (valueChange)="share.set($event)" />, in folder
      <input
        class="field num"
        aria-label="Folder of the share"
        placeholder="its top"
        [value]="folder()"
        (change)="folder.set(text.value.trim())"
        #text
      />
    }
  }`,
})
export class SharePlace {
  private readonly api = inject(Api);
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly listed = toSignal(this.api.call('listShares').pipe(outcome()));
  protected readonly shares = computed(() => this.listed()?.value?.rows);
  protected readonly options = computed(() => (this.shares() ?? []).map((s) => ({ value: s.id, label: s.name })));
  protected readonly share = linkedSignal(() => this.shares()?.[0]?.id ?? 0);
  protected readonly folder = signal('');

  constructor() {
    effect(() => {
      this.changed()(this.share() ? { to: 'share', shareId: this.share(), folder: this.folder() } : null);
    });
  }
}
