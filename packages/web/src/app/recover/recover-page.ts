import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Answered, Estate, Found, Version } from '@lithodex/contract';
import { combineLatest, debounce, debounceTime, of, switchMap, timer } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { ListKeys } from '../ui/list-keys';
import { stateWord } from '../ui/state-mark';

const mostWorkloads = 500;

/** Find what was lost: by name over all points, or by walking a workload; gather it on the pick list. */
@Component({
  selector: 'lx-recover-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, FilterBox, ListKeys, ...formatPipes],
  templateUrl: './recover-page.html',
  styleUrl: './recover-page.scss',
})
export class RecoverPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  protected readonly word = stateWord;
  protected readonly picks = inject(Picks);
  readonly q = input<string>();
  readonly item = input<string>();
  readonly within = input<string>();
  /** What the names of workloads to walk are narrowed by. */
  readonly walk = input<string>();
  protected readonly selected = signal(0);
  private readonly key = computed(() => {
    const within = this.within() ?? '';
    const policy = within.startsWith('policy-') ? within.slice('policy-'.length) : undefined;
    return { q: (this.q() ?? '').trim(), workload: within === '' || policy ? undefined : within, policy };
  });
  private readonly result = toSignal(
    toObservable(this.key).pipe(
      debounceTime(150),
      switchMap((key) =>
        key.q.length >= 2
          ? this.api.call('search', { query: { ...key, limit: 200 } }).pipe(outcome<Answered<'search'>>())
          : of<Outcome<Answered<'search'>>>({}),
      ),
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly rows = computed((): readonly Found[] => this.result()?.value?.rows ?? []);
  protected readonly next = computed(() => this.result()?.value?.next);
  protected readonly notInside = computed(() => this.result()?.value?.notInside);
  private readonly listedPolicies = toSignal(
    this.session.reads()
      ? this.api.call('listPolicies', { query: { limit: 200 } }).pipe(outcome<Answered<'listPolicies'>>())
      : of<Outcome<Answered<'listPolicies'>>>({}),
  );
  protected readonly policies = computed(() => this.listedPolicies()?.value?.rows ?? []);
  protected readonly searching = computed(() => this.key().q.length >= 2);
  private readonly estateResult = toSignal(
    toObservable(this.walk).pipe(
      debounce((q) => (q ? timer(150) : of(0))),
      switchMap((q) =>
        this.api.call('estate', { query: { show: 'points', limit: mostWorkloads, ...(q && { q }) } }).pipe(outcome<Estate>()),
      ),
    ),
  );
  protected readonly estate = computed(() => this.estateResult()?.value);
  protected readonly estateFailure = computed(() => this.estateResult()?.failure);
  protected readonly workloads = computed(() => this.estate()?.workloads ?? []);
  /** The workload looked in, where it is not among those listed. */
  protected readonly unlisted = computed(() => {
    const within = this.within();
    return within && !within.startsWith('policy-') && !this.workloads().some((w) => String(w.id) === within)
      ? this.workloadName(Number(within)) || 'one workload'
      : '';
  });
  private readonly newest = toSignal(this.api.call('listRuns', { query: { kinds: 'restore,download', limit: 60 } }).pipe(outcome()));
  /** What people asked for lately; what is repeated by itself has a page of its own. */
  protected readonly restores = computed(() =>
    this.newest()
      ?.value?.rows.filter((r) => r.trigger !== 'schedule')
      .slice(0, 12),
  );
  protected readonly chosen = computed(() => {
    const [id, ...rest] = (this.item() ?? '').split(':');
    return id ? { workload: Number(id), path: rest.join(':') } : null;
  });
  private readonly listed = toSignal(
    combineLatest([toObservable(this.chosen)]).pipe(
      switchMap(([c]) =>
        c
          ? this.api.call('versions', { query: { workload: c.workload, path: c.path } }).pipe(outcome<{ rows: Version[] }>())
          : of<Outcome<{ rows: Version[] }>>({}),
      ),
    ),
  );
  protected readonly versions = computed(() => this.listed()?.value?.rows ?? []);
  protected readonly pickBytes = computed(() => this.picks.items().reduce((a, p) => a + p.size, 0));

  protected keyOf(f: Found): string {
    return `${f.workload.id}:${f.path}`;
  }

  protected folderOf(path: string): string {
    return path.includes('/') ? path.slice(0, path.lastIndexOf('/')) : '/';
  }

  protected nameOf(path: string): string {
    return path.slice(path.lastIndexOf('/') + 1);
  }

  protected workloadName(id: number): string {
    return (this.rows().find((r) => r.workload.id === id)?.workload ?? this.workloads().find((w) => w.id === id))?.name ?? '';
  }

  protected patch(query: Record<string, string | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected isPicked(f: Found): boolean {
    return this.picks.has({ pointId: f.lastPointId, path: f.path });
  }

  protected toggle(f: Found): void {
    this.picks.toggle({ pointId: f.lastPointId, path: f.path, workload: f.workload.name, moment: f.lastSeen, kind: f.kind, size: f.size });
  }

  protected pick(v: Version): void {
    const c = this.chosen();
    if (c)
      this.picks.toggle({
        pointId: v.pointId,
        path: c.path,
        workload: this.workloadName(c.workload),
        moment: v.lastMoment,
        kind: v.kind,
        size: v.size,
      });
  }

  protected picked(v: Version): boolean {
    return this.picks.has({ pointId: v.pointId, path: this.chosen()?.path ?? '' });
  }

  protected open(index: number): void {
    const row = this.rows()[index];
    if (row) this.patch({ item: this.keyOf(row) });
  }

  protected onKey(event: KeyboardEvent): void {
    const row = this.rows()[this.selected()];
    if ((event.key === 'x' || event.key === 'p') && row) this.toggle(row);
  }
}
