import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { NightGrouping, Watch } from '@lithodex/contract';
import { catchError, combineLatest, EMPTY, filter, merge, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FirstStepsHint } from '../first/first-steps-hint';
import { formatPipes } from '../ui/format-pipes';
import { MatterCard } from './matter-card';
import { NightChart } from './night-chart';

/** Who stays so long has looked, ms. */
const lookMs = 3000;

@Component({
  selector: 'lx-watch-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, FirstStepsHint, MatterCard, NightChart, ...formatPipes],
  templateUrl: './watch-page.html',
  styleUrl: './watch-page.scss',
})
export class WatchPage {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  private readonly session = inject(Session);
  /** From the address: how many nights to show. */
  readonly nights = input<string>();
  protected readonly shownNights = computed(() => (['1', '3', '7'].includes(this.nights() ?? '') ? Number(this.nights()) : 1));
  /** From the address: what the ribbons of the night stand for. */
  readonly by = input<string>();
  protected readonly grouping = computed((): NightGrouping => (this.by() === 'source' ? 'source' : 'policy'));
  private readonly query = computed(() => ({ nights: this.shownNights(), by: this.grouping() }));
  private readonly result = toSignal(
    combineLatest([
      toObservable(this.query),
      merge(
        timer(0, 60_000),
        this.live.ticks((e) => e.kind !== 'progress', 3000),
      ),
    ]).pipe(switchMap(([query]) => this.api.call('watch', { query }).pipe(outcome<Watch>()))),
  );
  protected readonly watch = computed(() => this.result()?.value);
  protected readonly problem = computed((): ApiFailure | undefined => this.result()?.failure);
  protected readonly choices = [
    { nights: 1, word: 'One night', span: 'Last night' },
    { nights: 3, word: 'three', span: 'In the last three nights' },
    { nights: 7, word: 'week', span: 'In the last week' },
  ];
  protected readonly span = computed(() => this.choices.find((c) => c.nights === this.shownNights())!.span);
  protected readonly groupings: readonly { by: NightGrouping; word: string }[] = [
    { by: 'policy', word: 'policy' },
    { by: 'source', word: 'source' },
  ];
  protected readonly later = signal(false);
  protected readonly news = computed(() => {
    const fresh = this.watch()?.matters.filter((m) => m.fresh).length ?? 0;
    return fresh ? `, ${fresh} new since you last looked` : '';
  });

  constructor() {
    timer(lookMs)
      .pipe(
        filter(() => this.session.runs()),
        switchMap(() => this.api.call('looked').pipe(catchError(() => EMPTY))),
        takeUntilDestroyed(),
      )
      .subscribe();
  }
}
