import { ChangeDetectionStrategy, Component, computed, effect, input, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

const units: Readonly<Record<string, number>> = { MB: 1e6, GB: 1e9, TB: 1e12 };
const names = 'ABCDEFGHIJKLMNOP';

/** Sizes of disks as people write them, as "64 GB, 1.5 TB"; undefined where one is none. Bytes. */
export function disksOf(text: string): { id: string; bytes: number; first: boolean }[] | undefined {
  const sizes = text
    .split(/,\s+|;\s*|\s+and\s+/)
    .map((part) => part.trim())
    .filter(Boolean);
  const bytes = sizes.map((size) => {
    const [, number = '', unit = ''] = /^(\d+(?:\.\d+)?)\s*(MB|GB|TB)$/i.exec(size) ?? [];
    return Number(number) * (units[unit.toUpperCase()] ?? NaN);
  });
  if (!bytes.length || bytes.length > names.length || bytes.some((n) => !(n > 0))) return undefined;
  return bytes.map((n, i) => ({ id: names[i]!, bytes: Math.round(n), first: i === 0 }));
}

/** The part of the restore sentence that says which disks a server is made anew on. */
@Component({
  selector: 'lx-disks-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `of
    <input
      class="field num"
      aria-label="Sizes of the disks"
      placeholder="64 GB, 320 GB"
      title="One after the other; it starts from the first"
      [ngModel]="sizes()"
      (ngModelChange)="sizes.set($event)"
    />, it starts from the first, as files in folder
    <input
      class="field folder num"
      aria-label="Folder of the disks"
      placeholder="/srv/returned"
      [ngModel]="folder()"
      (ngModelChange)="folder.set($event)"
    />, <lx-slot label="identity" [options]="identities" [value]="asItself()" (valueChange)="asItself.set($event)" />`,
  styles: '.folder { width: 200px; }',
})
export class DisksPlace {
  readonly changed = input.required<(destination: Destination | null) => void>();
  protected readonly sizes = signal('');
  protected readonly folder = signal('');
  protected readonly asItself = signal(true);
  protected readonly identities: SlotOption<boolean>[] = [
    { value: true, label: 'as itself' },
    { value: false, label: 'as a clone with identities of its own' },
  ];
  private readonly destination = computed((): Destination | null => {
    const disks = disksOf(this.sizes());
    return disks && this.folder().startsWith('/') ? { to: 'disks', folder: this.folder(), disks, asItself: this.asItself() } : null;
  });

  constructor() {
    effect(() => {
      this.changed()(this.destination());
    });
  }
}
