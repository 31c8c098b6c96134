import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { NamespaceName, type ApplicationAddress } from '@lithodex/kinds';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

/** The part of the restore sentence that says which namespace of which cluster, and by which rewrites. */
@Component({
  selector: 'lx-application-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<lx-slot
      label="cluster"
      [options]="clusters()"
      [value]="system()"
      [text]="system() === null ? 'choose a cluster' : undefined"
      (valueChange)="choose($event)"
    />, into the namespace
    <input
      class="field num"
      aria-label="Namespace"
      placeholder="namespace"
      [ngModel]="namespace()"
      (ngModelChange)="namespace.set($event)"
    />
    <span>, with <lx-slot label="rewrites" [options]="sets()" [value]="set()" (valueChange)="set.set($event)" /></span>`,
})
export class ApplicationPlace {
  private readonly picks = inject(Picks);
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly systems = toSignal(inject(Api).call('listSystems').pipe(outcome()));
  private readonly all = computed(() => (this.systems()?.value?.rows ?? []).filter((s) => s.address.kind === 'application'));
  protected readonly clusters = computed((): SlotOption<number>[] => this.all().map((s) => ({ value: s.id, label: s.name })));
  private readonly ready = computed(
    () => (this.all().find((s) => s.id === this.system())?.address as ApplicationAddress | undefined)?.rewrites ?? [],
  );
  protected readonly sets = computed((): SlotOption<string>[] => [
    { value: '', label: 'nothing rewritten' },
    ...this.ready().map((r) => ({ value: r.name, label: `the rewrites “${r.name}”` })),
  ]);
  protected readonly system = signal<number | null>(null);
  protected readonly namespace = signal(this.picks.items()[0]?.workload ?? '');
  protected readonly set = signal('');

  constructor() {
    effect(() => {
      const [systemId, namespace] = [this.system(), this.namespace().trim()];
      const rewrites = this.ready().find((r) => r.name === this.set())?.rewrites ?? [];
      const said = systemId !== null && NamespaceName.safeParse(namespace).success;
      this.changed()(said ? { to: 'application', systemId, namespace, rewrites } : null);
    });
  }

  protected choose(system: number | null): void {
    this.system.set(system);
    this.set.set(this.ready()[0]?.name ?? '');
  }
}
