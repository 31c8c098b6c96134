import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { objectNameOf, unescapePath } from '@lithodex/core';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

/** The part of the restore sentence that says which server, and under which name. */
@Component({
  selector: 'lx-database-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<lx-slot
      label="server"
      [options]="servers()"
      [value]="system()"
      [text]="system() === null ? 'choose a server' : undefined"
      (valueChange)="system.set($event)"
    />
    @if (only()) {
      <span
        >, as <input class="field num" aria-label="Database" [placeholder]="only()" [ngModel]="name()" (ngModelChange)="name.set($event)"
      /></span>
    }`,
})
export class DatabasePlace {
  private readonly api = inject(Api);
  private readonly picks = inject(Picks);
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly systems = toSignal(this.api.call('listSystems').pipe(outcome()));
  protected readonly servers = computed((): SlotOption<number>[] =>
    (this.systems()?.value?.rows ?? []).filter((s) => s.address.kind === 'database').map((s) => ({ value: s.id, label: s.name })),
  );
  protected readonly system = signal<number | null>(null);
  protected readonly name = signal('');
  /** The only database that is picked, or of which something is. */
  protected readonly only = computed(() => {
    const names = new Set(this.picks.items().map((p) => p.path.split('/')[0]!));
    const [name] = names;
    return names.size === 1 && name ? objectNameOf(unescapePath(name)) : '';
  });
  private readonly destination = computed((): Destination | null => {
    const systemId = this.system();
    if (systemId === null) return null;
    const [from, to] = [this.only(), this.name().trim()];
    return { to: 'server', systemId, databases: from && to ? [{ from, to }] : [] };
  });

  constructor() {
    effect(() => {
      this.changed()(this.destination());
    });
  }
}
