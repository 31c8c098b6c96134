import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { Estate, Found, PathsFound } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Picks, type PickedItem } from '../data/picks';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';

const mostWorkloads = 500;
const mostLines = 2000;
type Line = PathsFound['rows'][number];
type Shown = 'all' | 'found' | 'several' | 'missing';

/** Many items at once by a list of their paths, as somebody sent it: which were found, which in several places, which not. */
@Component({
  selector: 'lx-paths-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, ...formatPipes],
  templateUrl: './paths-page.html',
  styleUrls: ['../ui/paste-page.scss', './paths-page.scss'],
})
export class PathsPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  protected readonly picks = inject(Picks);
  protected readonly text = signal('');
  protected readonly within = signal('');
  protected readonly busy = signal(false);
  protected readonly problem = signal('');
  protected readonly shown = signal<Shown>('all');
  protected readonly rows = signal<readonly Line[] | null>(null);
  private readonly estate = toSignal(this.api.call('estate', { query: { show: 'points', limit: mostWorkloads } }).pipe(outcome<Estate>()));
  protected readonly workloads = computed(() => this.estate()?.value?.workloads ?? []);
  protected readonly lines = computed(() => [
    ...new Set(
      this.text()
        .split('\n')
        .map((line) => line.trim())
        .filter(Boolean),
    ),
  ]);
  protected readonly tooMany = computed(() => this.lines().length > mostLines);
  protected readonly counts = computed(() => {
    const rows = this.rows() ?? [];
    const of = (is: (n: number) => boolean) => rows.filter((r) => is(r.found.length)).length;
    return { all: rows.length, found: of((n) => n === 1), several: of((n) => n > 1), missing: of((n) => n === 0) };
  });
  protected readonly kinds: readonly { readonly value: Shown; readonly label: string }[] = [
    { value: 'all', label: 'all' },
    { value: 'found', label: 'found' },
    { value: 'several', label: 'in several places' },
    { value: 'missing', label: 'not found' },
  ];
  protected readonly visible = computed(() => {
    const fits = { all: () => true, found: (n: number) => n === 1, several: (n: number) => n > 1, missing: (n: number) => n === 0 }[
      this.shown()
    ];
    return (this.rows() ?? []).filter((r) => fits(r.found.length));
  });
  /** What is picked by one press: what is in one place only. */
  protected readonly certain = computed(() => (this.rows() ?? []).flatMap((r) => (r.found.length === 1 ? [itemOf(r.found[0]!)] : [])));
  protected readonly countOf = countOf;

  protected find(): void {
    if (!this.lines().length || this.tooMany()) return;
    this.busy.set(true);
    this.problem.set('');
    const body = { paths: this.lines(), ...(this.within() && { workload: Number(this.within()) }) };
    this.api.call('findPaths', { body }).subscribe({
      next: ({ rows }) => {
        this.busy.set(false);
        this.shown.set('all');
        this.rows.set(rows);
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }

  protected isPicked(found: Found): boolean {
    return this.picks.has(itemOf(found));
  }

  protected toggle(found: Found): void {
    this.picks.toggle(itemOf(found));
  }

  protected pickCertain(): void {
    this.picks.add(this.certain());
  }
}

function itemOf({ lastPointId: pointId, path, workload, lastSeen: moment, kind, size }: Found): PickedItem {
  return { pointId, path, workload: workload.name, moment, kind, size };
}
