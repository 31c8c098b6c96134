import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { coursePrice, formatBytes, formatPrice, fullOn, monthlyPrice, type Course } from '@lithodex/core';
import type { Data, Layout } from 'plotly.js';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { byteTicks, colour, Plot } from '../ui/plot';
import type { TargetOutlook } from './simulation-job';

type View = 'room' | 'points' | 'price';
const views: readonly [View, string][] = [
  ['room', 'Room'],
  ['points', 'Points'],
  ['price', 'Price'],
];
/** A value for every so many days is enough for a line. */
const step = 5;

/** How a policy's points, their room and their price go on over the years, beside what is in force. */
@Component({
  selector: 'lx-years-ahead',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Plot, ...formatPipes],
  template: `
    @if (current(); as o) {
      <div class="row-line tabs">
        @for (t of outlooks(); track t.target.targetId; let i = $index) {
          <button type="button" class="act sm" [attr.aria-pressed]="i === at()" [class.on]="i === at()" (click)="chosen.set(i)">
            {{ t.target.name }}
          </button>
        }
        <span class="grow"></span>
        @for (v of views; track v[0]) {
          @if (v[0] !== 'price' || o.target.prices) {
            <button
              type="button"
              class="act sm"
              [attr.aria-pressed]="view() === v[0]"
              [class.on]="view() === v[0]"
              (click)="view.set(v[0])"
            >
              {{ v[1] }}
            </button>
          }
        }
      </div>
      <lx-plot [traces]="traces()" [layout]="layout()" [height]="170" [label]="summary()" />
      <p class="small m-0">{{ summary() }}</p>
    } @else if (!outlooks()) {
      <div class="skeleton" style="height: 170px"></div>
    } @else {
      <p class="mute m-0">Nothing is measured yet, so nothing can be told ahead.</p>
    }
  `,
  styles:
    '.tabs { gap: 5px; } .on { background: var(--lapis-soft); border-color: var(--lapis-line); color: var(--lapis); } :host { flex: none; display: flex; flex-direction: column; gap: 5px; }',
})
export class YearsAhead {
  private readonly session = inject(Session);
  /** undefined while it is being worked out. */
  readonly outlooks = input.required<readonly TargetOutlook[] | undefined>();
  protected readonly views = views;
  protected readonly chosen = signal(0);
  protected readonly view = signal<View>('room');
  protected readonly at = computed(() => Math.min(this.chosen(), (this.outlooks()?.length ?? 1) - 1));
  protected readonly current = computed(() => this.outlooks()?.[this.at()]);

  /** Bytes the policy may take on the target: what is free and what its own points take now. */
  private readonly capacity = computed(() => {
    const target = this.current()?.target;
    return target?.free == null ? undefined : target.free + target.usedByPolicy;
  });

  private values(course: Course): number[] {
    const prices = this.current()?.target.prices;
    const of = this.view() === 'points' ? course.points : course.bytes;
    const all = Array.from(of).filter((_, i) => i % step === 0 || i === of.length - 1);
    return this.view() === 'price' && prices ? all.map((b) => monthlyPrice(b, prices)) : all;
  }

  protected readonly traces = computed((): Data[] => {
    const o = this.current();
    if (!o) return [];
    const x = Array.from(o.draft.days)
      .filter((_, i) => i % step === 0 || i === o.draft.days.length - 1)
      .map((at) => new Date(at).toISOString());
    const line = (name: string, course: Course, more: object): Data => {
      const y = this.values(course);
      return { type: 'scatter', mode: 'lines', name, x, y, text: y.map((v) => this.told(v)), hovertemplate: '%{text}', ...more };
    };
    const lines = o.inForce ? [line('in force', o.inForce, { line: { color: colour('ink-3'), width: 1.5, dash: 'dot' } })] : [];
    const draft = line('draft', o.draft, {
      line: { color: colour('lapis'), width: 2 },
      fill: 'tozeroy',
      fillcolor: `${colour('lapis')}1f`,
    });
    return [draft, ...lines];
  });

  protected readonly layout = computed((): Partial<Layout> => {
    const room = this.view() === 'room' ? this.capacity() : undefined;
    const most = Math.max(0, ...(this.current() ? this.values(this.current()!.draft) : []));
    const shown = room !== undefined && room < most * 3;
    const ticks =
      this.view() === 'points' ? {} : byteTicks(shown ? Math.max(room, most) : most, (v) => this.told(v).replace(' a month', ''));
    return {
      yaxis: { ...ticks, rangemode: 'tozero' },
      xaxis: { hoverformat: '%d %b %Y' },
      ...(shown && {
        shapes: [
          { type: 'line', xref: 'paper', x0: 0, x1: 1, y0: room, y1: room, line: { color: colour('fail'), width: 1, dash: 'dash' } },
        ],
        annotations: [
          {
            xref: 'paper',
            x: 1,
            y: room,
            yanchor: 'bottom',
            xanchor: 'right',
            showarrow: false,
            text: 'room there is',
            font: { color: colour('fail') },
          },
        ],
      }),
    };
  });

  private told(value: number): string {
    const prices = this.current()?.target.prices;
    if (this.view() === 'points') return `${Math.round(value)} points`;
    return this.view() === 'price' && prices ? `${formatPrice(value, prices.currency)} a month` : formatBytes(value);
  }

  protected readonly summary = computed(() => {
    const o = this.current();
    if (!o) return '';
    const end = o.draft.bytes.length - 1;
    const years = Math.round(end / 365);
    const bytes = o.draft.bytes[end] ?? 0;
    const before = o.inForce?.bytes[end];
    const room = this.capacity();
    const full = room === undefined ? undefined : fullOn(o.draft, room);
    const { prices } = o.target;
    const parts = [
      `In ${years} years it takes ${formatBytes(bytes)} on ${o.target.name}${before === undefined || Math.abs(before - bytes) < bytes / 1000 ? '' : `, ${formatBytes(before)} as it is in force`}.`,
      full
        ? `Its room ends about ${new Date(full).toLocaleDateString('en-GB', { timeZone: this.session.zone(), month: 'short', year: 'numeric' })}.`
        : '',
      prices
        ? `That costs ${formatPrice(monthlyPrice(bytes, prices), prices.currency)} a month then, ${formatPrice(coursePrice(o.draft.bytes, prices), prices.currency)} in all until then.`
        : '',
      o.target.workloads.some((w) => !w.measured) ? 'Where nothing was measured, no change is counted.' : '',
    ];
    return parts.filter(Boolean).join(' ');
  });
}
