import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { NightTask, Watch } from '@lithodex/contract';
import { cutMiddle, formatMoment } from '@lithodex/core';
import { Session } from '../data/session';

const width = 800;
const left = 176;
const hour = 3_600_000;
const rowHeight = 27;
const groupHeights = { few: 92, many: 64 };
const colours: Partial<Record<NightTask['state'], string>> = {
  failed: 'var(--fail)',
  held: 'var(--fail)',
  partsMissing: 'var(--warn)',
  stopped: 'var(--warn)',
  cutOff: 'var(--warn)',
  notStarted: 'var(--missed)',
};
const words: Partial<Record<NightTask['state'], string>> = {
  failed: 'failed',
  held: 'held',
  partsMissing: 'parts missing',
  remarks: 'remarks',
  stopped: 'stopped',
  cutOff: 'cut off',
  notStarted: 'not started',
};

/** The night: what deviates gets a row, what went well is gathered into ribbons against the usual night. */
@Component({
  selector: 'lx-night-chart',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink],
  template: `<svg [attr.viewBox]="'0 0 ' + width + ' ' + height()" width="100%" role="group" aria-label="The night, hour by hour">
    @for (tick of ticks(); track tick.x) {
      <line [attr.x1]="tick.x" [attr.x2]="tick.x" y1="10" [attr.y2]="bottom()" stroke="var(--hush)" />
      <text [attr.x]="tick.x" [attr.y]="bottom() + 15" class="axis" text-anchor="middle">{{ tick.label }}</text>
    }
    @for (row of rows(); track row.task.workload.id) {
      <a [routerLink]="['/runs', row.task.runId]">
        <text x="0" [attr.y]="row.y + 4" font-size="13" font-weight="600" [attr.fill]="row.colour">
          {{ row.name }}
          <title>{{ row.task.workload.name }}</title>
        </text>
        <text [attr.x]="left - 10" [attr.y]="row.y + 4" class="note" text-anchor="end">{{ row.word }}</text>
        <rect [attr.x]="row.from" [attr.y]="row.y - 6" [attr.width]="row.length" height="12" rx="2" fill="var(--incremental)" />
        @switch (row.shape) {
          @case ('cross') {
            <path
              [attr.d]="'M' + (row.to + 2) + ' ' + (row.y - 4) + 'l8 8m0-8l-8 8'"
              stroke="var(--fail)"
              stroke-width="2.4"
              stroke-linecap="round"
            />
          }
          @case ('end') {
            <path [attr.d]="'M' + (row.to + 4) + ' ' + (row.y - 9) + 'v18'" stroke="var(--warn)" stroke-width="3" />
          }
          @default {
            <path [attr.d]="'M' + (row.to + 2) + ' ' + (row.y + 4) + 'l5-9 5 9z'" fill="none" stroke="var(--warn)" stroke-width="1.8" />
          }
        }
        <text [attr.x]="row.sayX" [attr.y]="row.y + 4" font-size="11.5" [attr.text-anchor]="row.anchor" [attr.fill]="row.colour">
          {{ row.remark }}
        </text>
      </a>
    }
    <text x="0" [attr.y]="quietY()" class="note">{{ quietText() }}</text>
    @for (group of groups(); track group.name) {
      <path [attr.d]="group.now" fill="var(--incremental)" />
      <path [attr.d]="group.usual" fill="none" stroke="var(--ink-2)" stroke-width="1.2" stroke-dasharray="3 3" />
      <line [attr.x1]="left" [attr.x2]="width" [attr.y1]="group.y" [attr.y2]="group.y" stroke="var(--line)" />
      <text x="0" [attr.y]="group.y - 14" font-size="12.5" font-weight="600" fill="var(--ink)">
        {{ group.short }}
        <title>{{ group.name }}</title>
      </text>
      <text x="0" [attr.y]="group.y" class="note">{{ group.note }}</text>
    }
    <line [attr.x1]="width - 2" [attr.x2]="width - 2" y1="4" [attr.y2]="bottom()" stroke="var(--ink)" stroke-width="1.5" />
  </svg>`,
  styles:
    '.axis { font: 11px var(--mono); fill: var(--ink-3); } .note { font-size: 11.5px; fill: var(--ink-3); } a { text-decoration: none; }',
})
export class NightChart {
  private readonly session = inject(Session);
  readonly watch = input.required<Watch>();
  protected readonly width = width;
  protected readonly left = left;

  private x(at: number): number {
    const { from, now } = this.watch();
    return left + ((width - left - 2) * (at - from)) / (now - from);
  }

  protected readonly rows = computed(() =>
    this.watch().deviants.map((task, i) => {
      const from = Math.max(left, this.x(task.startedAt));
      const to = Math.max(from + 3, this.x(task.endedAt ?? this.watch().now));
      const shape =
        task.state === 'failed' || task.state === 'held'
          ? 'cross'
          : task.state === 'stopped' || task.state === 'cutOff'
            ? 'end'
            : 'triangle';
      const late = to > width - 260;
      const remark = cutMiddle(`${task.remark.replace(/\.$/, '')}${task.attempts > 1 ? `, tried ${task.attempts} times` : ''}`, 60);
      return {
        task,
        from,
        to,
        length: to - from,
        shape,
        remark,
        y: 22 + i * rowHeight,
        name: cutMiddle(task.workload.name, 16),
        word: words[task.state] ?? task.state,
        colour: colours[task.state] ?? 'var(--ink)',
        sayX: late ? from - 6 : to + 18,
        anchor: late ? 'end' : 'start',
      };
    }),
  );
  protected readonly quietY = computed(() => 22 + this.rows().length * rowHeight + 12);
  protected readonly quietText = computed(() => {
    const n = this.watch().quiet;
    return n
      ? `${n} done without a remark; at work at the same time, against the usual night (dashed)`
      : 'At work at the same time, against the usual night (dashed)';
  });
  private readonly groupHeight = computed(() => (this.watch().groups.length > 4 ? groupHeights.many : groupHeights.few));
  protected readonly bottom = computed(() => this.quietY() + 14 + this.watch().groups.length * this.groupHeight());
  protected readonly height = computed(() => this.bottom() + 22);
  protected readonly groups = computed(() => {
    const { groups, from, slotMs, now } = this.watch();
    const top = Math.max(0.001, ...groups.flatMap((g) => [...g.now, ...g.usual]));
    const groupHeight = this.groupHeight();
    const height = groupHeight - 30;
    return groups.map((g, i) => {
      const y = this.quietY() + 10 + (i + 1) * groupHeight - 8;
      const point = (v: number, slot: number) =>
        `${this.x(Math.min(now, from + (slot + 0.5) * slotMs)).toFixed(1)} ${(y - (v / top) * height).toFixed(1)}`;
      const line = (values: number[]) => values.map((v, s) => `${s ? 'L' : 'M'}${point(v, s)}`).join('');
      return {
        name: g.name,
        short: cutMiddle(g.name, 27),
        note: g.note,
        y,
        now: `M${left} ${y}${g.now.map((v, s) => `L${point(v, s)}`).join('')}L${width - 2} ${y}Z`,
        usual: line(g.usual),
      };
    });
  });
  protected readonly ticks = computed(() => {
    const { from, now } = this.watch();
    const step = now - from > 40 * hour ? 12 * hour : 3 * hour;
    const ticks: { x: number; label: string }[] = [];
    for (let at = from; at <= now - step / 4; at += step)
      ticks.push({ x: this.x(at), label: formatMoment(at, this.session.zone()).slice(-5) });
    return ticks;
  });
}
