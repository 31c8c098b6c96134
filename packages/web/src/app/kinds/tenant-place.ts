import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

/** The part of the restore sentence that says whom items go to, and below which folder. */
@Component({
  selector: 'lx-tenant-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<lx-slot
      label="person"
      [options]="people()"
      [value]="member()"
      [text]="member() === null ? 'choose somebody' : undefined"
      (valueChange)="choose($event)"
    />
    <span
      >, below the folder
      <input class="field" aria-label="Folder" placeholder="where they were" [ngModel]="below()" (ngModelChange)="below.set($event)"
    /></span>`,
})
export class TenantPlace {
  private readonly api = inject(Api);
  private readonly picks = inject(Picks);
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly systems = toSignal(this.api.call('listSystems').pipe(outcome()));
  protected readonly people = computed((): SlotOption<number>[] =>
    (this.systems()?.value?.rows ?? [])
      .filter((s) => s.address.kind === 'tenant')
      .flatMap((s) => s.workloads.map(({ id, name }) => ({ value: id, label: name }))),
  );
  protected readonly member = signal<number | null>(null);
  protected readonly below = signal('');
  private readonly from = computed(() => this.picks.items()[0]?.workload ?? '');

  constructor() {
    effect(() => {
      const workloadId = this.member();
      this.changed()(workloadId === null ? null : { to: 'member', workloadId, below: this.below().trim() });
    });
  }

  /** What comes from somebody else gets a folder of its own, unless another one was said. */
  protected choose(id: number | null): void {
    if (id === null) return;
    this.member.set(id);
    const name = this.people().find((p) => p.value === id)?.label;
    if (this.below() === '' && name !== this.from()) this.below.set(`From ${this.from()}`.replace(/[\\/*%"]/g, '-'));
  }
}
