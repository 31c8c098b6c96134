import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import { ReportName, reportNames, reportTitles, type Report, type ReportCell, type ReportColumn } from '@lithodex/contract';
import { formatBytes, formatCount, formatDuration, formatMoment, formatShare } from '@lithodex/core';
import { switchMap } from 'rxjs';
import { addressOf, Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';

const day = 86_400_000;
const minute = 60_000;
const spans = [
  { days: 7, word: 'the last 7 days' },
  { days: 30, word: 'the last 30 days' },
  { days: 90, word: 'the last 90 days' },
  { days: 365, word: 'the last year' },
];
const usualDays = 30;
/** More rows nobody reads on a screen; the CSV has all. */
const mostRows = 1000;

/** Reports over a time, to read, to print and to take along. */
@Component({
  selector: 'lx-reports-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `<div class="page">
    <div class="row-line">
      <h1>Reports</h1>
      <span class="grow"></span>
      <a class="act" routerLink="/reports/notices">Notices</a>
      @if (found(); as r) {
        <a class="act" [href]="csv(r)" download>CSV</a>
        <button type="button" class="act" (click)="print()">Print or save as PDF</button>
      }
    </div>
    <div class="sheet list-box">
      <div class="filter-bar">
        @for (name of names; track name) {
          <button type="button" class="chip" [class.on]="name === chosen()" (click)="patch({ report: name })">{{ titles[name] }}</button>
        }
        <span class="grow"></span>
        <select class="field" aria-label="Time" (change)="patch({ days: sp.value, from: null, to: null })" #sp>
          @if (fixed()) {
            <option value="" selected>as asked for</option>
          }
          @for (s of spans; track s.days) {
            <option [value]="s.days" [selected]="!fixed() && s.days === span()">{{ s.word }}</option>
          }
        </select>
      </div>
      @if (failure()) {
        <div class="problem m-3" role="alert">{{ failure()?.message }}</div>
      }
      @if (found(); as r) {
        <div class="printed">
          <div class="says">
            <b>{{ titles[r.name] }}</b>
            <span class="mute small">{{ r.from | moment }} to {{ r.to | moment }}, {{ session.zone() }}</span>
            <p>{{ r.says }}</p>
          </div>
          <div class="scroll">
            <table class="list">
              <thead>
                <tr>
                  @for (c of r.columns; track c.name) {
                    <th [class.right]="c.as !== 'text'">{{ c.name }}</th>
                  }
                </tr>
              </thead>
              <tbody>
                @for (row of shown(); track $index) {
                  <tr>
                    @for (cell of row; track $index; let i = $index) {
                      <td [class.right]="r.columns[i]?.as !== 'text'" [class.num]="r.columns[i]?.as !== 'text'" [title]="cell ?? ''">
                        {{ said(cell, r.columns[i]) }}
                      </td>
                    }
                  </tr>
                } @empty {
                  <tr>
                    <td [attr.colspan]="r.columns.length" class="mute">There is nothing to list.</td>
                  </tr>
                }
              </tbody>
            </table>
            @if (r.rows.length > shown().length) {
              <div class="small mute p-2">{{ shown().length | count }} of {{ r.rows.length | count }} shown; the CSV has all.</div>
            }
          </div>
        </div>
      } @else if (!failure()) {
        <div class="skeleton m-3" style="height: 300px"></div>
      }
    </div>
  </div>`,
  styles: `
    :host {
      display: block;
      height: 100%;
    }
    .says {
      padding: 10px 14px 4px;
    }
    .says span {
      margin-left: 10px;
    }
    .says p {
      margin: 2px 0 6px;
    }
    td {
      max-width: 260px;
      overflow: hidden;
      text-overflow: ellipsis;
    }
    .printed {
      display: flex;
      flex-direction: column;
      min-height: 0;
    }
    @media print {
      .printed,
      .scroll {
        display: block;
        overflow: visible;
      }
      td {
        white-space: normal !important;
      }
    }
  `,
})
export class ReportsPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** From the address: which report, and over which time. */
  readonly report = input<string>();
  readonly days = input<string>();
  readonly from = input<string>();
  readonly to = input<string>();
  protected readonly names = reportNames;
  protected readonly titles = reportTitles;
  protected readonly spans = spans;
  protected readonly chosen = computed(() => ReportName.catch('success').parse(this.report()));
  protected readonly fixed = computed(() => Boolean(this.from() ?? this.to()));
  protected readonly span = computed(() => spans.find((s) => String(s.days) === this.days())?.days ?? usualDays);
  private readonly query = computed(() => {
    if (this.fixed()) return { from: this.from(), to: this.to() };
    const to = Math.floor(this.session.now() / minute) * minute;
    return { from: to - this.span() * day, to };
  });
  private readonly asked = computed(() => ({ id: this.chosen(), query: this.query() }));
  private readonly result = toSignal(
    toObservable(this.asked).pipe(switchMap((asked) => this.api.call('report', asked).pipe(outcome<Report>()))),
  );
  protected readonly found = computed(() => {
    const value = this.result()?.value;
    return value?.name === this.chosen() ? value : undefined;
  });
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly shown = computed(() => this.found()?.rows.slice(0, mostRows) ?? []);

  protected said(cell: ReportCell, column: ReportColumn | undefined): string {
    if (typeof cell !== 'number') return cell ?? '–';
    switch (column?.as) {
      case 'bytes':
        return formatBytes(cell);
      case 'share':
        return formatShare(cell);
      case 'moment':
        return formatMoment(cell, this.session.zone(), this.session.now());
      case 'span':
        return formatDuration(cell);
      default:
        return formatCount(cell);
    }
  }

  protected csv({ name, from, to }: Report): string {
    return `${addressOf('reportFile', name)}?from=${from}&to=${to}`;
  }

  protected print(): void {
    window.print();
  }

  protected patch(query: Record<string, string | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }
}
