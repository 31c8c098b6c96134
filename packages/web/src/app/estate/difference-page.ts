import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, numberAttribute } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Difference, Different, Point, WorkloadDetail } from '@lithodex/contract';
import { formatBytes, formatMoment } from '@lithodex/core';
import { of, switchMap } from 'rxjs';
import { addressOf, Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';

type Show = 'all' | Different['change'];
type Side = NonNullable<Different['then']>;
const pageRows = 500;

/** Two points of a workload beside each other: what changed, property by property, what is gone, what is new. */
@Component({
  selector: 'lx-difference-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  templateUrl: './difference-page.html',
  styleUrl: './difference-page.scss',
})
export class DifferencePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly picks = inject(Picks);
  protected readonly session = inject(Session);
  readonly id = input.required({ transform: numberAttribute });
  /** The two points; the newest and the one before it where they are not said. */
  readonly point = input<string>();
  readonly with = input<string>();
  readonly show = input<Show>();
  private readonly detail = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('workload', { id }).pipe(outcome<WorkloadDetail>()))),
  );
  protected readonly workload = computed(() => this.detail()?.value);
  protected readonly points = computed((): readonly Point[] =>
    (this.workload()?.pointList ?? []).filter((p) => p.kind !== 'log' && p.kind !== 'snapshot'),
  );
  protected readonly later = computed(() => this.point() ?? this.points().at(-1)?.id ?? '');
  protected readonly earlier = computed(() => {
    const at = this.points().findIndex((p) => p.id === this.later());
    return this.with() ?? this.points()[Math.max(0, at - 1)]?.id ?? '';
  });
  protected readonly shown = computed((): Show => this.show() ?? 'all');
  private readonly key = computed(() => ({ id: this.later(), with: this.earlier(), show: this.shown() }));
  private readonly result = toSignal(
    toObservable(this.key).pipe(
      switchMap(({ id, ...query }) =>
        id && query.with && id !== query.with
          ? this.api.call('difference', { id, query: { ...query, limit: pageRows } }).pipe(outcome<Difference>())
          : of<Outcome<Difference>>({}),
      ),
    ),
  );
  protected readonly difference = computed(() => this.result()?.value);
  protected readonly failure = computed(() => this.result()?.failure ?? this.detail()?.failure);
  private readonly more = linkedSignal<unknown, readonly Different[]>({ source: this.key, computation: () => [] });
  protected readonly next = linkedSignal(() => this.difference()?.next ?? null);
  protected readonly rows = computed(() => [...(this.difference()?.rows ?? []), ...this.more()]);
  protected readonly kinds: readonly { readonly value: Show; readonly label: string }[] = [
    { value: 'all', label: 'all' },
    { value: 'changed', label: 'changed' },
    { value: 'gone', label: 'gone' },
    { value: 'added', label: 'new' },
    { value: 'unseen', label: 'not looked at' },
  ];
  protected readonly csv = computed(() => {
    const { id, ...query } = this.key();
    return `${addressOf('differenceCsv', id)}?${new URLSearchParams(query).toString()}`;
  });

  protected count(show: Show): number {
    const counts = this.difference()?.counts;
    if (!counts) return 0;
    return show === 'all' ? counts.changed + counts.gone + counts.added + counts.unseen : counts[show];
  }

  protected patch(query: Record<string, string | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected loadMore(): void {
    const cursor = this.next();
    const { id, ...query } = this.key();
    if (!cursor) return;
    this.api.call('difference', { id, query: { ...query, cursor, limit: pageRows } }).subscribe((page) => {
      this.more.update((rows) => [...rows, ...page.rows]);
      this.next.set(page.next);
    });
  }

  /** What differs of an item, in words; the rest is the same. */
  protected words(row: Different): string {
    const { then, after } = row;
    if (!then || !after) return '';
    const parts: string[] = [];
    const differs = (what: string, of: (side: Side) => string) => {
      if (of(then) !== of(after)) parts.push(`${what} ${of(then)} → ${of(after)}`);
    };
    differs('kind', (s) => s.kind);
    differs('size', (s) => formatBytes(s.size));
    differs('written', (s) => this.time(s.mtimeNs));
    differs('rights', (s) => s.mode.toString(8).padStart(4, '0'));
    differs('owner', (s) => `${s.uid}:${s.gid}`);
    return parts.join(', ') || 'content';
  }

  private time(ns: string): string {
    return formatMoment(Number(BigInt(ns) / 1_000_000n), this.session.zone(), this.session.now());
  }

  /** Takes an item as it was at the earlier of the two. */
  protected pickEarlier(row: Different): void {
    const from = this.difference()?.from;
    if (!from || !row.then) return;
    const { kind, size } = row.then;
    this.picks.add([{ pointId: from.pointId, path: row.path, workload: this.workload()?.name ?? '', moment: from.moment, kind, size }]);
  }

  protected isPicked(row: Different): boolean {
    return this.picks.has({ pointId: this.difference()?.from.pointId ?? '', path: row.path });
  }
}
