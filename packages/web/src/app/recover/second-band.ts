import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import type { Band } from '@lithodex/contract';
import { countOf, formatMoment } from '@lithodex/core';
import { DateTime } from 'luxon';
import { Session } from '../data/session';

const width = 1214;
const left = 150;
const right = 12;
const days = 8;
const dayMs = 86_400_000;
const rowHeight = 14;
const upper = 22;
const lower = 92;

interface Row {
  readonly y: number;
  readonly from: number;
  readonly to: number;
}

const goneWords = (n: Band['notable'][number]): string => {
  const rows = n.tables.filter((t) => t.change === 'deleted').reduce((sum, t) => sum + t.rows, 0);
  return rows ? `${countOf(rows, 'row')} gone at once` : 'gone at once';
};

/** Where a database server can be brought back to: bands of the last days, and under them one day. */
@Component({
  selector: 'lx-second-band',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<svg [attr.viewBox]="'0 0 ' + width + ' 142'" width="100%" role="img" [attr.aria-label]="summary()" (click)="point($event)">
    <path [attr.d]="funnel()" fill="var(--row)" />
    @for (row of drawn(); track row.row.y) {
      @for (mark of row.marks; track mark.x) {
        <line [attr.x1]="mark.x" [attr.x2]="mark.x" [attr.y1]="row.row.y - 6" [attr.y2]="row.row.y + rowHeight + 6" stroke="var(--hush)" />
        <text [attr.x]="mark.textX" [attr.y]="mark.textY" class="axis" [attr.text-anchor]="mark.anchor">{{ mark.label }}</text>
      }
      @for (b of row.bands; track $index) {
        <rect
          [attr.x]="b.x"
          [attr.y]="row.row.y"
          [attr.width]="b.width"
          [attr.height]="rowHeight"
          [attr.fill]="b.reached ? 'var(--band)' : 'none'"
          [attr.stroke]="b.reached ? 'none' : 'var(--missed)'"
          [attr.stroke-dasharray]="b.reached ? null : '3 2'"
        >
          <title>{{ b.title }}</title>
        </rect>
      }
      @for (f of row.fulls; track $index) {
        <rect [attr.x]="f.x - 2" [attr.y]="row.row.y - 3" width="4" [attr.height]="rowHeight + 6" fill="var(--full)">
          <title>{{ f.title }}</title>
        </rect>
      }
      @for (n of row.notable; track $index) {
        <line
          [attr.x1]="n.x"
          [attr.x2]="n.x"
          [attr.y1]="row.row.y - 3"
          [attr.y2]="row.row.y + rowHeight + 3"
          stroke="var(--fail)"
          stroke-width="2.4"
        >
          <title>{{ n.title }}</title>
        </line>
        <text [attr.x]="n.x + 8" [attr.y]="row.row.y + 11" font-size="11.5" font-weight="600" fill="var(--fail)">{{ n.label }}</text>
      }
      @if (row.cursor; as x) {
        <line
          [attr.x1]="x"
          [attr.x2]="x"
          [attr.y1]="row.row.y - 7"
          [attr.y2]="row.row.y + rowHeight + 7"
          stroke="var(--ink)"
          stroke-width="1.8"
        />
        <path [attr.d]="'M' + (x - 5) + ' ' + (row.row.y - 12) + 'h10l-5 6z'" fill="var(--ink)" />
      }
      <text x="0" [attr.y]="row.row.y + 11" font-size="12.5" font-weight="600" fill="var(--ink)">{{ row.name }}</text>
    }
    @if (told(); as t) {
      <text [attr.x]="t.x" [attr.y]="lower - 14" font-size="12" font-weight="600" fill="var(--ink)" [attr.text-anchor]="t.anchor">
        {{ t.text }}
      </text>
    }
    <text [attr.x]="left" y="138" class="axis">{{ legend() }}</text>
  </svg>`,
  styles: ':host { display: block; } svg { cursor: crosshair; display: block; } .axis { font-size: 11px; fill: var(--ink-3); }',
})
export class SecondBand {
  private readonly session = inject(Session);
  readonly band = input.required<Band>();
  /** The second that is chosen, ms. */
  readonly at = input.required<number>();
  /** A second was pointed at. */
  readonly chosen = output<number>();
  protected readonly width = width;
  protected readonly left = left;
  protected readonly lower = lower;
  protected readonly rowHeight = rowHeight;

  private readonly local = (at: number) => DateTime.fromMillis(at, { zone: this.session.zone() });
  private readonly rows = computed((): { week: Row; day: Row } => {
    const end = this.local(Math.max(this.session.now(), this.at())).endOf('day').toMillis() + 1;
    const newest = this.local(this.at()).startOf('day');
    const from = this.local(end).minus({ days }).toMillis();
    return {
      week: { y: upper, from: Math.min(from, newest.toMillis()), to: end },
      day: { y: lower, from: newest.toMillis(), to: newest.plus({ days: 1 }).toMillis() },
    };
  });
  private x(row: Row, at: number): number {
    return left + ((at - row.from) / (row.to - row.from)) * (width - left - right);
  }

  protected readonly drawn = computed(() => {
    const { week, day } = this.rows();
    return [this.draw(week, 'Last days', dayMs, 'ccc d'), this.draw(day, this.local(day.from).toFormat('ccc d LLL'), dayMs / 8, 'HH:mm')];
  });

  private draw(row: Row, name: string, step: number, format: string) {
    const band = this.band();
    const zone = this.session.zone();
    const inRow = (at: number) => at >= row.from && at <= row.to;
    const clip = (from: number, to: number) => ({
      x: this.x(row, Math.max(from, row.from)),
      width: Math.max(1.5, this.x(row, Math.min(to, row.to)) - this.x(row, Math.max(from, row.from))),
    });
    const overlaps = (from: number, to: number) => to >= row.from && from <= row.to;
    const { stretches } = band;
    const reached = stretches.flatMap((s) =>
      s.from !== null && overlaps(s.from, s.to)
        ? [{ ...clip(s.from, s.to), reached: true, title: `Any second from ${formatMoment(s.from, zone)} to ${formatMoment(s.to, zone)}` }]
        : [],
    );
    const gaps = stretches.flatMap((s, i) => {
      const before = stretches[i - 1];
      const to = s.from ?? s.to;
      if (!before || !overlaps(before.to, to)) return [];
      return [{ ...clip(before.to, to), reached: false, title: `Nothing in between: ${s.cause}` }];
    });
    const steps = Math.round((row.to - row.from) / step);
    const marks = Array.from({ length: steps + (step < dayMs ? 1 : 0) }, (_, i) => {
      const at = step < dayMs ? row.from + i * step : this.local(row.from).plus({ days: i }).toMillis();
      const x = this.x(row, at);
      const isDay = step >= dayMs;
      const label = isDay ? this.local(at).toFormat(format) : i === steps ? '24:00' : this.local(at).toFormat(format);
      return {
        x,
        label,
        textX: isDay ? x + 4 : x,
        textY: isDay ? row.y - 8 : row.y + rowHeight + 18,
        anchor: isDay ? 'start' : i === steps ? 'end' : 'middle',
      };
    });
    return {
      row,
      name,
      marks,
      bands: [...reached, ...gaps],
      fulls: band.fulls
        .filter((f) => inRow(f.moment))
        .map((f) => ({ x: this.x(row, f.moment), title: `full, ${formatMoment(f.moment, zone)}` })),
      notable: band.notable
        .filter((n) => inRow(n.at))
        .map((n) => ({
          x: this.x(row, n.at),
          title: `${formatMoment(n.at, zone)}: ${n.statement}`,
          label: step < dayMs ? goneWords(n) : '',
        })),
      cursor: inRow(this.at()) ? this.x(row, this.at()) : null,
    };
  }

  protected readonly funnel = computed(() => {
    const { week, day } = this.rows();
    const [a, b] = [this.x(week, day.from), this.x(week, day.to)];
    const y = upper + rowHeight + 2;
    return `M${a} ${y}H${b}L${width - right} ${lower - 8}H${left}Z`;
  });
  protected readonly told = computed(() => {
    const x = this.x(this.rows().day, this.at());
    const late = x > width - 160;
    return { x: late ? x - 9 : x + 9, anchor: late ? 'end' : 'start', text: this.local(this.at()).toFormat('HH:mm:ss') };
  });
  protected readonly legend = computed(() => {
    const gaps = this.band().stretches.filter((s) => s.cause);
    const why = gaps.at(-1);
    return `dark: full · band: any second · red: rows or tables gone at once${why ? ` · dashed: ${why.cause}` : ''}`.slice(0, 210);
  });
  protected readonly summary = computed(
    () => `${countOf(this.band().stretches.length, 'stretch', 'stretches')} of time, ${countOf(this.band().fulls.length, 'full')}`,
  );

  protected point(event: MouseEvent): void {
    const box = (event.currentTarget as SVGElement).getBoundingClientRect();
    const x = ((event.clientX - box.left) / box.width) * width;
    const y = ((event.clientY - box.top) / box.height) * 142;
    const row = y < (upper + lower) / 2 + 8 ? this.rows().week : this.rows().day;
    const at = row.from + ((x - left) / (width - left - right)) * (row.to - row.from);
    if (x >= left) this.chosen.emit(Math.round(at / 1000) * 1000);
  }
}
