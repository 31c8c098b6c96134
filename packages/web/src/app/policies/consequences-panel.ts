import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import type { Consequences } from '@lithodex/contract';
import { countOf, formatMoment } from '@lithodex/core';
import { Session } from '../data/session';
import { Checks, type Check } from '../ui/checks';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import type { TargetOutlook } from './simulation-job';
import { YearsAhead } from './years-ahead';

const marks: readonly [days: number, label: string][] = [
  [1, '1 d'],
  [7, '1 w'],
  [30, '1 m'],
  [91, '3 m'],
  [365, '1 y'],
  [1826, '5 y'],
  [7305, '20 y'],
];

/** What a draft will keep, take, delete and leave out, beside what is in force. */
@Component({
  selector: 'lx-consequences-panel',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Checks, StateMark, YearsAhead, ...formatPipes],
  template: `<h2>
      Consequences
      @if (consequences(); as c) {
        <span class="aside">worked out from {{ c.measured.runs | count: 'earlier point' }}</span>
      }
    </h2>
    @if (failure()) {
      <div class="problem" role="alert">{{ failure() }}</div>
    }
    @if (consequences(); as c) {
      <div class="facts">
        <span
          >Points, settled<b>{{ c.settled.points ?? 'no end' }}</b>
          @if (c.settledNow) {
            <i>in force: {{ c.settledNow.points ?? 'no end' }}</i>
          }
        </span>
        <span
          >Furthest back<b>{{ days(c.settled.furthestDays) }}</b>
          @if (c.settledNow) {
            <i>in force: {{ days(c.settledNow.furthestDays) }}</i>
          }
        </span>
        <span
          >Room, in a year<b>{{ roomInAYear() | bytes }}</b
          ><i>{{ c.measured.targetFree === null ? '' : (c.measured.targetFree | bytes) + ' free' }}</i></span
        >
        <span
          >New each run<b>{{ c.measured.newBytesPerRun | bytes }}</b
          ><i>{{ c.measured.runs ? 'of ' + (c.measured.sizeBytes | bytes) : 'nothing measured yet' }}</i></span
        >
      </div>
      <p class="small mute m-0">{{ c.settled.arithmetic }}, for each of {{ workloads(c) }}</p>
      <h2>What each day can go back to</h2>
      <svg viewBox="0 0 430 62" width="100%" role="img" aria-label="How far back the points reach">
        @for (row of reach(); track row.name) {
          <text x="0" [attr.y]="row.y + 3" font-size="11" fill="var(--ink-2)">{{ row.name }}</text>
          <line x1="62" x2="426" [attr.y1]="row.y + 6" [attr.y2]="row.y + 6" stroke="var(--line)" />
          @for (x of row.ticks; track $index) {
            <rect [attr.x]="x" [attr.y]="row.y - 7" width="3" height="13" rx="1" fill="var(--incremental)" />
          }
        }
        @for (m of axis(); track m.label) {
          <text [attr.x]="m.x" y="59" font-size="10.5" fill="var(--ink-3)" text-anchor="middle">{{ m.label }}</text>
        }
      </svg>
      <h2>The years ahead <span class="aside">lived day by day from measured change</span></h2>
      <lx-years-ahead [outlooks]="outlooks()" />
      <h2>
        Next runs <span class="aside">{{ c.zone }}</span>
      </h2>
      @if (c.nextRuns.length) {
        <ol class="runs">
          @for (at of c.nextRuns; track $index) {
            <li [title]="at | exact">{{ local(at, c.zone) }}</li>
          }
        </ol>
      } @else {
        <p class="mute m-0">Only when a person starts it.</p>
      }
      <h2>The next 24 hours</h2>
      <p class="small m-0" [class.w]="c.fit.draft.missed > c.fit.inForce.missed">{{ fitWords(c) }}</p>
      @if (c.leftOut.length) {
        <h2>Left out</h2>
        @for (l of c.leftOut; track l.path + l.why) {
          <div class="small left">
            <span class="num">{{ l.path }}</span><span class="mute">{{ l.why }}</span>
          </div>
        }
      }
      <h2>Checks</h2>
      @if (c.deletes.points) {
        <div class="delete">
          <lx-mark state="look" /><span
            ><b>Deletes {{ count(c.deletes.points) }} at once</b>, from {{ c.deletes.oldest | moment }} to {{ c.deletes.newest | moment }},
            of {{ c.deletes.workloads.join(', ') }}.
            @if (agreed()) {
              <span class="mute">Agreed.</span>
            } @else {
              <button type="button" class="plain" (click)="agree.emit()">Agree</button>
            }
          </span>
        </div>
      }
      <lx-checks [checks]="checks()" />
    } @else if (!failure()) {
      <div class="skeleton" style="height: 60px"></div>
      <div class="skeleton" style="height: 240px"></div>
    }`,
  styles: `
    :host {
      background: var(--sheet-2) !important;
    }
    svg {
      flex: none;
    }
    .runs {
      margin: 0;
      padding: 0;
      list-style: none;
      display: grid;
      grid-template-columns: 1fr 1fr;
      gap: 1px 12px;
      font: 12px/1.7 var(--mono);
    }
    .delete {
      display: grid;
      grid-template-columns: 18px 1fr;
      gap: 7px;
      font-size: 13px;
    }
    .facts {
      gap: 14px;
      justify-content: space-between;
    }
    .left {
      display: flex;
      gap: 8px;
    }
    .left .num {
      flex: none;
      max-width: 55%;
      overflow-wrap: anywhere;
    }
  `,
})
export class ConsequencesPanel {
  private readonly session = inject(Session);
  readonly consequences = input<Consequences>();
  readonly outlooks = input<readonly TargetOutlook[] | undefined>([]);
  readonly failure = input('');
  /** Bytes on the first target a year from now. */
  protected readonly roomInAYear = computed(() => this.outlooks()?.[0]?.draft.bytes[365]);
  readonly agreed = input(false);
  readonly agree = output();

  protected readonly checks = computed((): Check[] => {
    const c = this.consequences();
    if (!c) return [];
    const warnings = c.warnings
      .filter((w) => w.code !== 'DELETES')
      .map((w): Check => ({ level: w.code === 'NO_TARGET' ? 'stop' : 'look', text: w.text }));
    const spread: Check = c.spreadGaps.length
      ? { level: 'look', text: `Lacks ${c.spreadGaps.join(', ')}. Wanted: three copies, two kinds of media, one elsewhere, one locked.` }
      : { level: 'fine', text: 'Three copies, two kinds of media, one elsewhere, one locked.' };
    const placed = c.matches.length ? [...warnings, spread] : warnings;
    return c.deletes.points ? placed : [...placed, { level: 'fine', text: 'Putting it in force deletes nothing.' }];
  });

  /** Days the axis reaches back: a year, or as far as the oldest point. */
  private readonly horizon = computed(() => {
    const c = this.consequences();
    return Math.max(400, 1.05 * Math.max(0, ...(c?.settled.ages ?? []), ...(c?.settledNow?.ages ?? [])));
  });

  private x(days: number): number {
    return 424 - (362 * Math.log2(1 + days / 1.5)) / Math.log2(1 + this.horizon() / 1.5);
  }

  protected readonly axis = computed(() =>
    marks.filter(([days]) => days <= this.horizon()).map(([days, label]) => ({ x: this.x(days), label })),
  );

  /** How the work of the next hours would end with the draft, beside how it will end as it is. */
  protected fitWords({ fit: { draft, inForce, tasks } }: Consequences): string {
    if (draft.ends === null) return tasks ? 'No mover answers, so nothing would start.' : 'Nothing is due.';
    const zone = this.session.zone();
    const now = inForce.ends === null ? 'nothing is due' : `all ends ${formatMoment(inForce.ends, zone, this.session.now())}`;
    const missed = draft.missed ? `, and ${countOf(draft.missed, 'task')} would miss ${draft.missed === 1 ? 'its' : 'their'} window` : '';
    return `${countOf(tasks, 'task')}, all ended by ${formatMoment(draft.ends, zone, this.session.now())}${missed}. As it is, ${now}${inForce.missed ? `, ${inForce.missed} missed` : ''}.`;
  }

  protected readonly reach = computed(() => {
    const c = this.consequences();
    if (!c) return [];
    const ticks = (ages: readonly number[]) => ages.map((age) => this.x(age));
    const draft = { name: 'draft', y: 34, ticks: ticks(c.settled.ages) };
    return c.settledNow ? [{ name: 'in force', y: 12, ticks: ticks(c.settledNow.ages) }, draft] : [draft];
  });

  protected days(n: number | null): string {
    if (n !== null && n > 0 && n < 2) return countOf(Math.round(n * 24), 'hour');
    return n === null ? '–' : n > 730 ? `${(n / 365.25).toFixed(1)} years` : countOf(n, 'day');
  }

  protected local(at: number, zone: string): string {
    return formatMoment(at, zone, this.session.now());
  }

  protected count(n: number): string {
    return countOf(n, 'point');
  }

  protected workloads(c: Consequences): string {
    return countOf(c.matches.length, 'workload');
  }
}
