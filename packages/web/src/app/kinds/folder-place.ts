import { ChangeDetectionStrategy, Component, computed, effect, inject, input, linkedSignal, signal, type OnDestroy } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';
import { OwnFolders } from './own-folders';

/** The part of the restore sentence that says which folder of the mover. */
@Component({
  selector: 'lx-folder-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<input
      class="field folder num"
      aria-label="Folder"
      placeholder="/srv/returned"
      [ngModel]="folder()"
      (ngModelChange)="folder.set($event)"
    />, <lx-slot label="path" [options]="paths" [value]="keepPath()" (valueChange)="keepPath.set($event)" /> their original path`,
  styles: '.folder { width: 240px; }',
})
export class FolderPlace implements OnDestroy {
  private readonly owns = inject(OwnFolders);
  readonly changed = input.required<(destination: Destination | null) => void>();
  protected readonly folder = signal('');
  /** Whether the original path is left out, until somebody says otherwise. */
  readonly strips = input(false);
  protected readonly keepPath = linkedSignal(() => !this.strips());
  protected readonly paths: SlotOption<boolean>[] = [
    { value: true, label: 'keeping' },
    { value: false, label: 'without' },
  ];
  private readonly destination = computed((): Destination | null =>
    this.folder().startsWith('/') ? { to: 'folder', folder: this.folder(), keepPath: this.keepPath(), exceptions: this.owns.all() } : null,
  );

  constructor() {
    effect(() => {
      this.changed()(this.destination());
    });
  }

  ngOnDestroy(): void {
    this.owns.forget();
  }
}
