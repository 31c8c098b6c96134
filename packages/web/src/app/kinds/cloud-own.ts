import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import type { RestorePlan } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';
import { sizeWords } from './cloud-place';
import { NewInstances, type OwnInstance } from './new-instances';

/** Another name and another size for one of the machines that go into a cloud, and disks of it that stay behind. */
@Component({
  selector: 'lx-cloud-own',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `@if (!place()?.ahead) {
      <input
        class="field d-block"
        [attr.aria-label]="'Another name for ' + item().name"
        placeholder="under another name"
        [value]="own()?.name ?? ''"
        (change)="rename(nn.value)"
        #nn
      />
      <span class="small nowrap d-block"
        >size <lx-slot [label]="'size of ' + item().name" [options]="sizes()" [value]="own()?.size ?? ''" (valueChange)="setSize($event)"
      /></span>
    }
    @for (disk of item().disks; track disk.label) {
      <label class="small nowrap d-block"
        ><input type="checkbox" [checked]="!out().includes(disk.label)" (change)="toggle(disk.label)" /> {{ disk.label }}
        <span class="mute">{{ bytes(disk.size) }}</span></label
      >
    }`,
})
export class CloudOwn {
  readonly item = input.required<RestorePlan['items'][number]>();
  private readonly instances = inject(NewInstances);
  protected readonly place = this.instances.place;
  protected readonly own = computed((): OwnInstance | undefined => this.instances.owns().get(this.item().pick.pointId));
  protected readonly out = computed((): readonly string[] => this.own()?.leaveOut ?? []);
  protected readonly bytes = formatBytes;
  protected readonly sizes = computed((): SlotOption<string>[] => {
    const offers = this.instances.offers();
    return [
      { value: '', label: `${this.place()?.size ?? 'the cheapest that fits'}, as all` },
      ...[...(offers?.sizes ?? [])]
        .sort((a, b) => a.perHour - b.perHour)
        .map((s) => ({ value: s.name, label: s.name, note: sizeWords(s, offers!.currency) })),
    ];
  });

  private set(change: Partial<Record<keyof OwnInstance, string | string[] | undefined>>): void {
    const all = { ...this.own(), ...change };
    this.instances.setOwn(this.item().pick.pointId, Object.fromEntries(Object.entries(all).filter(([, v]) => v?.length)));
  }

  protected rename(text: string): void {
    this.set({ name: text.trim() });
  }

  protected setSize(size: string): void {
    this.set({ size });
  }

  protected toggle(label: string): void {
    this.set({ leaveOut: this.out().includes(label) ? this.out().filter((l) => l !== label) : [...this.out(), label] });
  }
}
