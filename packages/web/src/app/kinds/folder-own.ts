import { ChangeDetectionStrategy, Component, inject, input } from '@angular/core';
import type { RestorePlan } from '@lithodex/contract';
import { OwnFolders } from './own-folders';

/** Another place below the folder for one of the items. */
@Component({
  selector: 'lx-folder-own',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<input
    class="field d-block small"
    [attr.aria-label]="'Another place for ' + item().name"
    placeholder="another place below it"
    [value]="folders.of(item().pick)"
    (change)="folders.set(item().pick, place.value)"
    #place
  />`,
})
export class FolderOwn {
  readonly item = input.required<RestorePlan['items'][number]>();
  protected readonly folders = inject(OwnFolders);
}
