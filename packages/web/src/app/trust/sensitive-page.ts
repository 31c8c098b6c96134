import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { Answered, Sensitive, SensitiveFileRow } from '@lithodex/contract';
import { countOf, formatCount } from '@lithodex/core';
import { combineLatest, debounceTime, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { Plot } from '../ui/plot';
import { sensitiveChart } from './sensitive-chart';
import { TrustHead } from './trust-head';

const readerWords = { owner: 'its owner', group: 'its group', everybody: 'everybody there' } as const;
const fewest = 100;

/** Where sensitive data lies, how it came to be so much, and in which files. */
@Component({
  selector: 'lx-sensitive-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, FormsModule, TrustHead, FilterBox, FormDialog, Plot, ...formatPipes],
  templateUrl: './sensitive-page.html',
  styleUrl: './sensitive-page.scss',
})
export class SensitivePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  protected readonly session = inject(Session);
  readonly workload = input<string>();
  readonly pattern = input<string>();
  readonly q = input<string>();
  protected readonly acts = new Acts();
  protected readonly readerWords = readerWords;
  private readonly chosen = computed(() => {
    const id = Number(this.workload());
    return Number.isSafeInteger(id) && id > 0 ? id : undefined;
  });
  private readonly result = toSignal(
    combineLatest([toObservable(this.chosen), this.live.ticks((e) => e.kind === 'point')]).pipe(
      switchMap(([workload]) => this.api.call('listSensitive', { query: { ...(workload && { workload }) } }).pipe(outcome<Sensitive>())),
    ),
  );
  protected readonly limit = signal(fewest);
  private readonly asked = computed(() => ({ workload: this.chosen(), pattern: this.pattern(), q: this.q() }));
  private readonly listed = toSignal(
    combineLatest([toObservable(this.asked), toObservable(this.limit), this.live.ticks((e) => e.kind === 'point')]).pipe(
      debounceTime(150),
      switchMap(([{ workload, pattern, q }, limit]) =>
        this.api
          .call('sensitiveFiles', { query: { limit, ...(workload && { workload }), ...(pattern && { pattern }), ...(q && { q }) } })
          .pipe(outcome<Answered<'sensitiveFiles'>>()),
      ),
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure ?? this.listed()?.failure);
  protected readonly told = computed(() => this.result()?.value);
  protected readonly files = computed(() => this.listed()?.value);
  protected readonly chart = computed(() => {
    const told = this.told();
    return told?.lines.length ? sensitiveChart(told, this.session.zone()) : undefined;
  });
  protected readonly jumpWords = computed(() => {
    const jump = this.told()?.jump;
    if (!jump) return '';
    const what = `${countOf(jump.added, 'finding')} more, most of them ${this.nameOf(jump.pattern)}`;
    return jump.why === 'newWorkload'
      ? `${jump.workload.name} was looked into for the first time, so nothing is new in it but our knowledge: ${what}.`
      : `New data in ${jump.workload.name}: ${what}.`;
  });
  protected readonly summary = computed(() => {
    const told = this.told();
    return told?.looked ? `looked for in ${countOf(told.looked, 'workload')}` : '';
  });
  protected readonly csv = computed(() => {
    const asked = Object.entries(this.asked()).flatMap(([key, value]) => (value === undefined ? [] : [[key, String(value)]]));
    const query = new URLSearchParams(asked).toString();
    return `/api/v1/sensitive/files/csv${query ? `?${query}` : ''}`;
  });

  protected nameOf(id: string): string {
    return this.told()?.patterns.find((p) => p.id === id)?.name ?? id;
  }

  protected sourceOf(id: string): string {
    return this.told()?.patterns.find((p) => p.id === id)?.source ?? '';
  }

  protected risen(since: number | null): string {
    if (since === null) return 'new';
    return since > 0 ? `+${formatCount(since)}` : since < 0 ? `−${formatCount(-since)}` : '–';
  }

  protected go(to: { workload?: number | null; pattern?: string | null; q?: string | null }): void {
    this.limit.set(fewest);
    void this.router.navigate([], { queryParams: to, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected more(): void {
    this.limit.update((n) => Math.min(500, n + 200));
  }

  /** A file whose findings somebody wants to read uncovered. */
  protected readonly asking = signal<{ readonly file: SensitiveFileRow; readonly pattern: string } | null>(null);
  protected readonly reason = signal('');
  protected readonly shown = signal<Answered<'showSensitive'> | null>(null);

  protected ask(file: SensitiveFileRow, pattern: string): void {
    this.reason.set('');
    this.shown.set(null);
    this.acts.problem.set('');
    this.asking.set({ file, pattern });
  }

  protected show(): void {
    const asked = this.asking();
    if (!asked) return;
    const body = { workload: asked.file.workload.id, path: asked.file.path, pattern: asked.pattern, reason: this.reason() };
    this.acts.run(this.api.call('showSensitive', { body }), (answer) => {
      this.shown.set(answer);
    });
  }
}
