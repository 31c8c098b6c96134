import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { Watch } from '@lithodex/contract';
import { combineLatest, map, merge, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { NightChart } from './night-chart';

@Component({
  selector: 'lx-watch-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, NightChart, StateMark, ...formatPipes],
  templateUrl: './watch-page.html',
  styleUrl: './watch-page.scss',
})
export class WatchPage {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  /** From the address: how many nights to show. */
  readonly nights = input<string>();
  protected readonly shownNights = computed(() => (['1', '3', '7'].includes(this.nights() ?? '') ? Number(this.nights()) : 1));
  private readonly result = toSignal(
    combineLatest([
      toObservable(this.shownNights),
      merge(
        timer(0, 60_000),
        this.live.ticks((e) => e.kind === 'run' || e.kind === 'estate' || e.kind === 'policy', 3000),
      ),
    ]).pipe(
      map(([nights]) => nights),
      switchMap((nights) => this.api.call('watch', { query: { nights } }).pipe(outcome<Watch>())),
    ),
  );
  protected readonly watch = computed(() => this.result()?.value);
  protected readonly problem = computed((): ApiFailure | undefined => this.result()?.failure);
  protected readonly choices = [
    { nights: 1, word: 'One night' },
    { nights: 3, word: 'three' },
    { nights: 7, word: 'week' },
  ];
}
