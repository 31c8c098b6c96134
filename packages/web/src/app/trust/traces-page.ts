import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import { mostSums, type Traces } from '@lithodex/contract';
import { countOf, sumsIn } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { formatPipes } from '../ui/format-pipes';
import { TrustHead } from './trust-head';

/** So many sums stand in the address, so that it can be sent to somebody. */
const mostInAddress = 20;

/** Where contents are, or were, by their sums as somebody sent them: over all history that was scanned. */
@Component({
  selector: 'lx-traces-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, TrustHead, ...formatPipes],
  templateUrl: './traces-page.html',
  styleUrls: ['../ui/paste-page.scss', './traces-page.scss'],
})
export class TracesPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  /** Sums that are searched for, comma between them. */
  readonly q = input<string>();
  protected readonly text = signal('');
  protected readonly busy = signal(false);
  protected readonly problem = signal('');
  protected readonly traces = signal<Traces | null>(null);
  protected readonly sums = computed(() => sumsIn(this.text()));
  protected readonly tooMany = computed(() => this.sums().length > mostSums);
  protected readonly mostSums = mostSums;
  protected readonly summary = computed(() => {
    const t = this.traces();
    if (!t) return '';
    const places = t.rows.reduce((n, r) => n + r.places.length, 0);
    const there = t.rows.filter((r) => r.places.some((p) => p.goneAt === null)).length;
    const found = t.rows.length
      ? `${countOf(t.rows.length, 'content')} found in ${t.more ? 'more than ' : ''}${countOf(places, 'place')}, ${there} of them still there`
      : 'No trace';
    return `${found}${t.nowhere.length ? `; ${countOf(t.nowhere.length, 'sum')} nowhere` : ''}.`;
  });
  /** How far the answer goes. */
  protected readonly reach = computed(() => {
    const looked = this.traces()?.looked;
    if (!looked) return '';
    const rest = looked.of - looked.workloads;
    return rest
      ? `Sums are known of the newest points of ${looked.workloads} of ${countOf(looked.of, 'workload')}: of the others nothing can be said.`
      : `Sums are known of the newest points of all ${countOf(looked.of, 'workload')}.`;
  });

  constructor() {
    effect(() => {
      const asked = sumsIn(this.q() ?? '');
      untracked(() => {
        if (!asked.length || asked.join() === this.sums().join()) return;
        this.text.set(asked.join('\n'));
        this.search(asked);
      });
    });
  }

  protected find(): void {
    const sums = this.sums();
    if (!sums.length || this.tooMany()) return;
    void this.router.navigate([], { queryParams: { q: sums.length <= mostInAddress ? sums.join() : null }, replaceUrl: true });
    this.search(sums);
  }

  private search(sums: readonly string[]): void {
    this.busy.set(true);
    this.problem.set('');
    this.api.call('findTraces', { body: { sums: [...sums] } }).subscribe({
      next: (traces) => {
        this.busy.set(false);
        this.traces.set(traces);
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
