import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

/** The part of the restore sentence that says which share of which file server, and which folder of it. */
@Component({
  selector: 'lx-file-server-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<lx-slot
      label="file server"
      [options]="servers()"
      [value]="system()"
      [text]="system() === null ? 'choose a file server' : undefined"
      (valueChange)="system.set($event)"
    />, to the share
    <input
      class="field num"
      aria-label="Share"
      list="shares-there"
      placeholder="share"
      [ngModel]="share()"
      (ngModelChange)="share.set($event)"
    />
    <datalist id="shares-there">
      @for (s of there(); track s) {
        <option [value]="s"></option>
      }
    </datalist>
    <span
      >, into the folder
      <input class="field num" aria-label="Folder" placeholder="where each was" [ngModel]="folder()" (ngModelChange)="folder.set($event)" />
    </span>`,
})
export class FileServerPlace {
  private readonly api = inject(Api);
  private readonly picks = inject(Picks);
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly systems = toSignal(this.api.call('listSystems').pipe(outcome()));
  private readonly all = computed(() => (this.systems()?.value?.rows ?? []).filter((s) => s.address.kind === 'share'));
  protected readonly servers = computed((): SlotOption<number>[] => this.all().map((s) => ({ value: s.id, label: s.name })));
  protected readonly there = computed(
    () =>
      this.all()
        .find((s) => s.id === this.system())
        ?.workloads.map((w) => w.name) ?? [],
  );
  protected readonly system = signal<number | null>(null);
  protected readonly share = signal(this.picks.items()[0]?.workload ?? '');
  protected readonly folder = signal('');

  constructor() {
    effect(() => {
      // the only one there is needs no choice
      const [only, ...others] = this.servers();
      if (this.system() === null && only && !others.length) this.system.set(only.value);
    });
    effect(() => {
      const [systemId, share] = [this.system(), this.share().trim()];
      const folder = this.folder()
        .trim()
        .replace(/^\/+|\/+$/g, '');
      this.changed()(systemId !== null && share !== '' ? { to: 'fileServer', systemId, share, folder } : null);
    });
  }
}
