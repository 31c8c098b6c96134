import { ChangeDetectionStrategy, Component, computed, effect, inject, input, numberAttribute, signal, untracked } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { Point, PointKind, Tree, TreeRow, Version, WorkloadDetail } from '@lithodex/contract';
import { countOf, cutMiddle } from '@lithodex/core';
import { kinds } from '@lithodex/kinds';
import { combineLatest, of, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { Moment } from '../data/moment';
import { outcome, type Outcome } from '../data/outcome';
import { Picks, type PickedItem } from '../data/picks';
import { Session } from '../data/session';
import { partsOf } from '../kinds/parts-of';
import { MailStores } from './mail-stores';
import { Beds } from '../ui/beds';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { ListKeys } from '../ui/list-keys';
import { StateMark } from '../ui/state-mark';
import { FolderTree } from './folder-tree';
import { ItemSide } from './item-side';
import { InsideDialog } from './inside-dialog';
import { InsideSide } from './inside-side';
import { SnapshotDialog } from './snapshot-dialog';
import { SourceSide } from './source-side';
import { PointVerdict } from '../trust/point-verdict';

type Ask = 'copy' | 'letGo' | 'once' | 'lift' | 'hold' | 'source' | 'inside';

/** One workload: its points over time, the contents as of the moment, what became of them, and all versions of one item. */
@Component({
  selector: 'lx-workload-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    PointVerdict,
    RouterLink,
    FormsModule,
    Beds,
    FolderTree,
    InsideDialog,
    InsideSide,
    MailStores,
    ItemSide,
    FormDialog,
    ListKeys,
    SnapshotDialog,
    SourceSide,
    StateMark,
    ...formatPipes,
  ],
  templateUrl: './workload-page.html',
  styleUrl: './workload-page.scss',
})
export class WorkloadPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  protected readonly parts = partsOf;
  protected readonly moment = inject(Moment);
  protected readonly picks = inject(Picks);
  readonly id = input.required({ transform: numberAttribute });
  readonly path = input<string>();
  readonly item = input<string>();
  protected readonly ticked = signal<ReadonlySet<string>>(new Set());
  protected readonly selected = signal(0);
  protected readonly ask = signal<Ask | null>(null);
  protected readonly problem = signal('');
  protected reason = '';
  protected kind: PointKind | 'fresh' | 'onStorage' = 'incremental';
  protected keepBy: 'hand' | 'days' = 'hand';
  protected keepDays = 30;

  private readonly result = toSignal(
    combineLatest([toObservable(this.id), inject(Live).ticks((e) => e.kind !== 'progress' && e.kind !== 'policy', 1500)]).pipe(
      switchMap(([id]) => this.api.call('workload', { id }).pipe(outcome<WorkloadDetail>())),
    ),
  );
  protected readonly workload = computed(() => this.result()?.value);
  protected readonly failure = computed(() => this.result()?.failure);
  /** Points that hold what one can look into: a log leads from one to the next, and is seen on its own page. */
  protected readonly points = computed(() => (this.workload()?.pointList ?? []).filter((p) => p.kind !== 'log'));
  protected readonly sound = computed(() => this.points().filter((p) => !p.suspect && !p.onStorage));
  /** The point that is read: the newest one at the moment, whatever it is; without a moment the newest sound one. */
  protected readonly point = computed((): Point | undefined => {
    const at = this.moment.at();
    return at === null ? (this.sound().at(-1) ?? this.points().at(-1)) : this.points().findLast((p) => p.moment <= at);
  });
  protected readonly pointId = computed(() => this.point()?.id);
  protected readonly folder = computed(() => this.path() ?? '');
  private readonly treeResult = toSignal(
    combineLatest([toObservable(this.pointId), toObservable(this.folder)]).pipe(
      switchMap(([id, path]) =>
        id ? this.api.call('tree', { id, query: { path, limit: 500 } }).pipe(outcome<Tree>()) : of<Outcome<Tree>>({}),
      ),
    ),
  );
  private readonly more = signal<readonly TreeRow[]>([]);
  protected readonly next = signal<string | null>(null);
  protected readonly tree = computed(() => this.treeResult()?.value);
  protected readonly treeFailure = computed(() => this.treeResult()?.failure);
  protected readonly rows = computed(() => [...(this.tree()?.rows ?? []), ...this.more()]);
  protected readonly chosen = computed(() => this.rows().find((r) => r.path === this.item()) ?? null);
  protected readonly crumbs = computed(() => {
    const parts = this.folder() ? this.folder().split('/') : [];
    return parts.map((name, depth) => ({ name, path: parts.slice(0, depth + 1).join('/') }));
  });
  /** Whether items can be put beside what is there now. */
  protected readonly compares = computed(() => kinds[this.workload()?.kind ?? 'files'].compares);
  /** Whether anything is told of what is inside a disk. */
  protected readonly told = computed(() => this.rows().some((r) => r.about !== ''));
  protected readonly tickedRows = computed(() => this.rows().filter((r) => this.ticked().has(r.path)));

  constructor() {
    effect(() => {
      const tree = this.tree();
      untracked(() => {
        this.more.set([]);
        this.next.set(tree?.next ?? null);
        this.ticked.set(new Set());
        this.selected.set(0);
      });
    });
  }

  protected loadMore(): void {
    const id = this.pointId();
    const cursor = this.next();
    if (!id || !cursor) return;
    this.api.call('tree', { id, query: { path: this.folder(), cursor, limit: 500 } }).subscribe((tree) => {
      this.more.update((rows) => [...rows, ...tree.rows]);
      this.next.set(tree.next);
    });
  }

  protected patch(query: Record<string, string | number | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge' });
  }

  protected enter(path: string): void {
    this.patch({ path: path || null, item: null });
  }

  protected openRow(row: TreeRow): void {
    if ((row.kind === 'folder' && !(row.unread && this.tree()?.inside)) || row.opens) this.enter(row.path);
    else this.patch({ item: row.path });
  }

  protected tick(row: TreeRow): void {
    this.ticked.update((t) => (t.has(row.path) ? new Set([...t].filter((p) => p !== row.path)) : new Set([...t, row.path])));
  }

  protected tickAll(): void {
    this.ticked.update((t) => (t.size === this.rows().length ? new Set() : new Set(this.rows().map((r) => r.path))));
  }

  private picked(row: TreeRow, point: Point): PickedItem {
    return {
      pointId: point.id,
      path: row.path,
      workload: this.workload()?.name ?? '',
      moment: point.moment,
      kind: row.kind,
      size: row.size,
    };
  }

  protected addTicked(): void {
    const point = this.point();
    if (!point) return;
    this.picks.add(this.tickedRows().map((row) => this.picked(row, point)));
    this.ticked.set(new Set());
  }

  protected restoreTicked(): void {
    this.addTicked();
    void this.router.navigate(['/recover/sheet']);
  }

  protected restoreAll(): void {
    const point = this.point();
    if (!point) return;
    this.picks.add([
      {
        pointId: point.id,
        path: this.folder(),
        workload: this.workload()?.name ?? '',
        moment: point.moment,
        kind: 'folder',
        size: this.folder() ? 0 : point.bytes,
      },
    ]);
    void this.router.navigate(['/recover/sheet']);
  }

  protected pickVersion(version: Version): void {
    const path = this.item();
    if (!path) return;
    this.picks.add([
      {
        pointId: version.pointId,
        path,
        workload: this.workload()?.name ?? '',
        moment: version.lastMoment,
        kind: version.kind,
        size: version.size,
      },
    ]);
    void this.router.navigate(['/recover/sheet']);
  }

  private step(direction: -1 | 1): void {
    const points = this.points();
    const at = points.findIndex((p) => p.id === this.pointId());
    const next = points[at + direction];
    if (next) this.moment.set(next.moment);
  }

  protected openAt(index: number): void {
    const row = this.rows()[index];
    if (row) this.openRow(row);
  }

  protected onKey(event: KeyboardEvent): void {
    const row = this.rows()[this.selected()];
    if (event.key === 'x' && row) this.tick(row);
    else if (event.key === 'p') this.addTicked();
    else if (event.key === ',') this.step(-1);
    else if (event.key === '.') this.step(1);
    else if (event.key === 'Escape' && (event.target as HTMLElement).tagName === 'BODY') {
      if (this.item()) this.patch({ item: null });
      else if (this.folder()) this.enter(this.folder().split('/').slice(0, -1).join('/'));
    } else return;
    event.preventDefault();
  }

  protected readonly cut = cutMiddle;
  protected readonly countOf = countOf;

  protected start(ask: Ask): void {
    this.reason = '';
    this.problem.set('');
    this.ask.set(ask);
  }

  private readonly done = {
    next: () => {
      this.ask.set(null);
    },
    error: (failure: ApiFailure) => {
      this.problem.set(failure.message);
    },
  };

  protected protectOnce(): void {
    const { kind } = this;
    if (kind === 'onStorage') {
      const name = this.reason.trim();
      this.api.call('takeSnapshot', { id: this.id(), body: { ...(name && { name }) } }).subscribe(this.done);
      return;
    }
    const keep = this.keepBy === 'hand' ? { by: 'hand' as const } : { by: 'days' as const, days: Number(this.keepDays) };
    this.api
      .call('protectOnce', {
        id: this.id(),
        body: { ...(kind === 'fresh' ? { kind: 'full', fresh: true } : { kind }), keep, note: this.reason },
      })
      .subscribe({
        next: ({ runId }) => void this.router.navigate(['/runs', runId]),
        error: this.done.error,
      });
  }

  protected lift(): void {
    this.api.call('liftSuspicion', { id: this.id(), body: { reason: this.reason } }).subscribe(this.done);
  }

  protected hold(): void {
    const id = this.pointId();
    if (id) this.api.call('holdPoint', { id, body: { reason: this.reason } }).subscribe(this.done);
  }

  protected release(): void {
    const id = this.pointId();
    if (id)
      this.api.call('releasePoint', { id }).subscribe({ next: () => void this.router.navigate(['/trust/acts']), error: this.done.error });
  }
}
