import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { Discovered, WorkloadRow } from '@lithodex/contract';
import { combineLatest, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';

/** Looks into a source as it is right now, folder by folder. */
@Component({
  selector: 'lx-folder-peek',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  template: `<div class="head small">
      <span class="num">{{ workload().source.folder }}{{ path() ? '/' + path() : '' }}</span>
      @if (path()) {
        <button type="button" class="plain" (click)="up()">up</button>
      }
      @if (data(); as d) {
        <span class="mute">read {{ d.readAt | ago }}</span>
      }
      <button type="button" class="plain" (click)="again.set(again() + 1)">read again</button>
    </div>
    @if (problem()) {
      <div class="f small px-3 pb-2">{{ problem()?.message }}</div>
    }
    <div class="rows">
      @for (row of data()?.rows?.slice(0, 200); track row.path) {
        <div class="r">
          @if (row.kind === 'folder') {
            <button type="button" class="plain cut" (click)="path.set(row.path)">▸ {{ row.name }}</button>
          } @else {
            <span class="cut">{{ row.name }}</span>
          }
          <span class="small" [class.f]="!row.readable" [class.mute]="row.readable">{{
            !row.readable
              ? 'can not be read'
              : row.leftOut
                ? 'left out ' + row.leftOut
                : workload().policies.length > 0
                  ? 'protected'
                  : 'unprotected'
          }}</span>
          <span class="num right">{{ row.kind === 'file' ? (row.size | bytes) : '' }}</span>
          <span class="small mute right">{{ row.mtime | moment }}</span>
        </div>
      } @empty {
        @if (data()) {
          <div class="r mute">This folder is empty.</div>
        }
      }
    </div>`,
  styles: `
    .head {
      padding: 8px 14px 4px 46px;
      display: flex;
      gap: 12px;
    }
    .rows {
      max-height: 230px;
      overflow: auto;
      padding: 0 14px 8px 46px;
    }
    .r {
      display: grid;
      grid-template-columns: minmax(160px, 1fr) 220px 90px 150px;
      gap: 12px;
      padding: 2px 0;
      font-size: 13px;
    }
  `,
})
export class FolderPeek {
  private readonly api = inject(Api);
  readonly workload = input.required<WorkloadRow>();
  private readonly sourceId = computed(() => this.workload().source.id);
  protected readonly path = signal('');
  protected readonly again = signal(0);
  private readonly result = toSignal(
    combineLatest([toObservable(this.sourceId), toObservable(this.path), toObservable(this.again)]).pipe(
      switchMap(([id, path]) => this.api.call('discover', { id, query: { path } }).pipe(outcome<Discovered>())),
    ),
  );
  protected readonly data = computed(() => this.result()?.value);
  protected readonly problem = computed(() => this.result()?.failure);

  protected up(): void {
    this.path.update((p) => (p.includes('/') ? p.slice(0, p.lastIndexOf('/')) : ''));
  }
}
