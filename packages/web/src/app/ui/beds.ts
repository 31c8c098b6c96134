import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import type { Point, WorkloadDetail } from '@lithodex/contract';
import { axisMarks, bedThickness, countOf, foldAge, formatDuration, formatMoment, unfoldAge } from '@lithodex/core';
import { Session } from '../data/session';

const width = 1214;
const left = 150;
const right = 16;
const rowHeight = 56;
const fullHeight = 22;
const dayMs = 86_400_000;

interface Bed {
  readonly name: string;
  readonly note: string;
  readonly y: number;
  readonly outline: string;
  readonly joints: readonly { x: number; half: number }[];
  /** Where a full point lies: read whole from the source, or put together. */
  readonly seams: readonly { x: number; colour: string; title: string }[];
  readonly suspects: readonly { x: number; point: Point }[];
  /** Under the points that are locked now. */
  readonly lock: { readonly x: number; readonly width: number; readonly title: string } | undefined;
}

/** Points over time: one bed for each target, thick where points are close together, thin where they are far apart, holes where one is missing. */
@Component({
  selector: 'lx-beds',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<svg
    [attr.viewBox]="'0 0 ' + width + ' ' + height()"
    width="100%"
    role="img"
    [attr.aria-label]="summary()"
    (mousemove)="hover($event)"
    (mouseleave)="hovered.set(null)"
    (click)="choose()"
  >
    <defs>
      <pattern id="lx-hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <line x1="0" x2="0" y1="0" y2="5" stroke="var(--locked)" stroke-width="2.4" />
      </pattern>
    </defs>
    @for (mark of marks(); track mark.label) {
      <line [attr.x1]="mark.x" [attr.x2]="mark.x" y1="18" [attr.y2]="height() - 20" stroke="var(--hush)" />
      <text [attr.x]="mark.x" [attr.y]="height() - 6" class="axis" [attr.text-anchor]="mark.label === 'now' ? 'end' : 'middle'">
        {{ mark.label }}
      </text>
    }
    @for (bed of beds(); track bed.name) {
      <text x="0" [attr.y]="bed.y - 2" font-size="12.5" font-weight="600" fill="var(--ink)">{{ bed.name }}</text>
      <text x="0" [attr.y]="bed.y + 12" class="axis">{{ bed.note }}</text>
      <path [attr.d]="bed.outline" fill="var(--incremental)" stroke="var(--incremental)" stroke-linejoin="round" />
      @for (j of bed.joints; track $index) {
        <line
          [attr.x1]="j.x"
          [attr.x2]="j.x"
          [attr.y1]="bed.y - j.half"
          [attr.y2]="bed.y + j.half"
          stroke="var(--sheet)"
          stroke-width="1.3"
          opacity="0.85"
        />
      }
      @for (seam of bed.seams; track $index) {
        <line
          [attr.x1]="seam.x"
          [attr.x2]="seam.x"
          [attr.y1]="bed.y - 12"
          [attr.y2]="bed.y + 12"
          [attr.stroke]="seam.colour"
          stroke-width="2.4"
        >
          <title>{{ seam.title }}</title>
        </line>
      }
      @if (bed.lock; as lock) {
        <rect [attr.x]="lock.x" [attr.y]="bed.y + 13" [attr.width]="lock.width" height="6" fill="url(#lx-hatch)">
          <title>{{ lock.title }}</title>
        </rect>
      }
      @for (hole of holes(); track hole.x) {
        <rect
          [attr.x]="hole.x - 5"
          [attr.y]="bed.y - 9"
          width="10"
          height="18"
          fill="var(--sheet)"
          stroke="var(--missed)"
          stroke-dasharray="3 2"
        >
          <title>{{ hole.title }}</title>
        </rect>
      }
      @for (s of bed.suspects; track s.point.id) {
        <rect [attr.x]="s.x - 5" [attr.y]="bed.y - 14" width="10" height="28" fill="var(--sheet)" stroke="var(--fail)" stroke-width="1.6" />
        <path [attr.d]="'M' + (s.x - 4) + ' ' + (bed.y - 10) + 'l8 20m0-20l-8 20'" stroke="var(--fail)" stroke-width="1.6" />
      }
    }
    @if (cursor(); as c) {
      <line [attr.x1]="c.x" [attr.x2]="c.x" y1="16" [attr.y2]="height() - 20" stroke="var(--ink)" stroke-width="1.6" />
      <path [attr.d]="'M' + (c.x - 5) + ' 12h10l-5 6z'" fill="var(--ink)" />
      <text
        [attr.x]="c.x < width / 2 ? c.x + 9 : c.x - 9"
        y="12"
        font-size="12"
        fill="var(--ink)"
        [attr.text-anchor]="c.x < width / 2 ? 'start' : 'end'"
      >
        {{ c.text }}
      </text>
    }
  </svg>`,
  styles: ':host { display: block; } svg { cursor: crosshair; display: block; } .axis { font-size: 11px; fill: var(--ink-3); }',
})
export class Beds {
  private readonly session = inject(Session);
  readonly points = input.required<readonly Point[]>();
  readonly missing = input<WorkloadDetail['missing']>([]);
  /** The moment that is set, ms; null for now. */
  readonly at = input<number | null>(null);
  /** A point was chosen by pointing. */
  readonly chosen = output<Point>();
  protected readonly hovered = signal<number | null>(null);
  protected readonly width = width;

  private readonly now = computed(() => {
    this.points();
    return this.session.now();
  });
  private readonly longest = computed(() => {
    const oldest = Math.min(...this.points().map((p) => p.moment), this.now() - 7 * dayMs);
    return (this.now() - oldest) * 1.25;
  });
  protected readonly height = computed(() => 34 + Math.max(1, this.beds().length) * rowHeight);
  protected readonly marks = computed(() => axisMarks(this.longest()).map((m) => ({ x: this.x(this.now() - m.age), label: m.label })));
  protected readonly summary = computed(() => `${countOf(this.points().length, 'point')} over ${formatDuration(this.longest())}`);
  protected readonly holes = computed(() =>
    this.missing().map((m) => ({ x: this.x(m.moment), title: `Nothing from ${formatMoment(m.moment, this.session.zone())}: ${m.why}` })),
  );

  private x(moment: number): number {
    return width - right - (width - left - right) * foldAge(this.now() - moment, this.longest());
  }

  protected readonly beds = computed((): Bed[] => {
    const targets = [...new Set(this.points().flatMap((p) => p.copies.map((c) => c.target)))];
    return targets.map((name, row) => {
      const y = 44 + row * rowHeight;
      const own = this.points()
        .filter((p) => p.copies.some((c) => c.target === name))
        .sort((a, b) => b.moment - a.moment);
      const sound = own.filter((p) => !p.suspect);
      // a full that was put together stands for the same instant as the point it was made of
      const lying = sound.filter((p, i) => p.moment !== sound[i - 1]?.moment);
      const joints = lying.map((p, i) => {
        const gap = (lying[i - 1]?.moment ?? p.moment + (p.moment - (lying[i + 1]?.moment ?? p.moment - dayMs))) - p.moment;
        return { x: this.x(p.moment), half: (bedThickness(gap) * fullHeight) / 2 };
      });
      const up = joints.map((j, i) => `${i ? 'L' : 'M'}${j.x.toFixed(1)} ${(y - j.half).toFixed(1)}`).join('');
      const down = [...joints]
        .reverse()
        .map((j) => `L${j.x.toFixed(1)} ${(y + j.half).toFixed(1)}`)
        .join('');
      const shown = joints.filter((j, i) => i === 0 || joints[i - 1]!.x - j.x > 3);
      const reach = sound.length
        ? `${countOf(sound.length, 'point')}, back ${formatDuration(this.now() - sound.at(-1)!.moment)}`
        : 'no sound point';
      return {
        name,
        y,
        note: reach,
        outline: joints.length ? `${up}${down}Z` : '',
        joints: shown,
        seams: sound
          .filter((p) => p.kind === 'full' || p.kind === 'synthetic')
          .map((p) => ({
            x: this.x(p.moment),
            colour: `var(--${p.kind})`,
            title: `${p.kind === 'full' ? 'full' : 'synthetic full'} of ${formatMoment(p.moment, this.session.zone(), this.now())}`,
          })),
        lock: this.lockOf(own, name),
        suspects: own.filter((p) => p.suspect).map((point) => ({ x: this.x(point.moment), point })),
      };
    });
  });

  private lockOf(own: readonly Point[], target: string): Bed['lock'] {
    const locked = own.flatMap((p) => {
      const until = p.copies.find((c) => c.target === target)?.lockedUntil ?? 0;
      return until > this.now() ? [{ x: this.x(p.moment), until }] : [];
    });
    if (!locked.length) return undefined;
    const [from, to] = [Math.min(...locked.map((l) => l.x)), Math.max(...locked.map((l) => l.x))];
    const last = formatMoment(Math.max(...locked.map((l) => l.until)), this.session.zone(), this.now());
    return { x: from - 3, width: to - from + 6, title: `${countOf(locked.length, 'point')} locked, the last until ${last}` };
  }

  /** The newest sound point at or before an instant. */
  private pointAt(at: number): Point | undefined {
    return [...this.points()].filter((p) => p.moment <= at).sort((a, b) => b.moment - a.moment)[0];
  }

  protected readonly cursor = computed(() => {
    const wanted = this.hovered() ?? this.at();
    if (wanted === null) return null;
    const point = this.pointAt(wanted);
    const zone = this.session.zone();
    if (!point) return { x: this.x(wanted), text: 'no point this old' };
    const lost = wanted - point.moment;
    const exact = lost < 60_000 ? '' : ` · wanted ${formatMoment(wanted, zone)}, ${formatDuration(lost)} of work lost`;
    return { x: this.x(point.moment), text: `${formatMoment(point.moment, zone)}${point.suspect ? ', suspect' : ''}${exact}` };
  });

  protected hover(event: MouseEvent): void {
    const box = (event.currentTarget as Element).getBoundingClientRect();
    const at = ((event.clientX - box.left) / box.width) * width;
    const position = (width - right - at) / (width - left - right);
    this.hovered.set(position < 0 || position > 1 ? null : Math.round(this.now() - unfoldAge(position, this.longest())));
  }

  protected choose(): void {
    const at = this.hovered();
    const point = at === null ? undefined : this.pointAt(at);
    if (point) this.chosen.emit(point);
  }
}
