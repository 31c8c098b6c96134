import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Estate, WorkloadRow } from '@lithodex/contract';
import { combineLatest, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { Moment } from '../data/moment';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { ListKeys } from '../ui/list-keys';
import { StateMark, stateWord } from '../ui/state-mark';
import { ConnectSource } from './connect-source';
import { FolderPeek } from './folder-peek';

type Show = 'all' | 'none' | 'matched' | 'suspect' | 'late' | 'protected';
const shows: readonly { show: Show; word: string }[] = [
  { show: 'all', word: 'all' },
  { show: 'none', word: 'unprotected' },
  { show: 'matched', word: 'no point yet' },
  { show: 'suspect', word: 'suspect' },
  { show: 'late', word: 'past the objective' },
  { show: 'protected', word: 'protected' },
];

@Component({
  selector: 'lx-estate-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, FilterBox, ListKeys, StateMark, ConnectSource, FolderPeek, ...formatPipes],
  templateUrl: './estate-page.html',
  styleUrl: './estate-page.scss',
})
export class EstatePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  protected readonly moment = inject(Moment);
  readonly show = input<string>();
  readonly q = input<string>();
  readonly tag = input<string>();
  readonly connect = input<string>();
  protected readonly selected = signal(0);
  protected readonly opened = signal<number | null>(null);
  protected readonly shows = shows;
  protected readonly word = stateWord;
  private readonly result = toSignal(
    combineLatest([toObservable(this.moment.at), inject(Live).ticks((e) => e.kind !== 'progress', 2000)]).pipe(
      switchMap(([at]) => this.api.call('estate', { query: { at: at ?? undefined } }).pipe(outcome<Estate>())),
    ),
  );
  protected readonly estate = computed(() => this.result()?.value);
  protected readonly problem = computed(() => this.result()?.failure);
  protected readonly rows = computed(() => {
    const text = (this.q() ?? '').toLowerCase();
    const show = this.show();
    const tag = this.tag();
    return (this.estate()?.workloads ?? []).filter(
      (w) =>
        (!text || [w.name, w.source.location, w.source.folder, ...w.tags].some((t) => t.toLowerCase().includes(text))) &&
        (!tag || w.tags.includes(tag)) &&
        (!show || show === 'all' || (show === 'late' ? w.late : w.coverage === show)),
    );
  });

  protected countOf(show: Show): number {
    return this.estate()?.counts[show] ?? 0;
  }

  protected patch(query: Record<string, string | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected toggle(w: WorkloadRow, event: Event): void {
    event.stopPropagation();
    this.opened.update((id) => (id === w.id ? null : w.id));
  }

  protected open(index: number): void {
    const row = this.rows()[index];
    if (row) void this.router.navigate(['/estate', row.id], { queryParamsHandling: 'preserve' });
  }
}
