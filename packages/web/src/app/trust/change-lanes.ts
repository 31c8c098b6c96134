import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import type { ChangedPoint, ChangedWorkload, Changes } from '@lithodex/contract';
import { formatMoment } from '@lithodex/core';
import { Session } from '../data/session';

const width = 640;
const laneHeight = 44;
const top = 14;
const half = 11;
const day = 86_400_000;

interface Mark {
  readonly point: ChangedPoint;
  readonly path: string;
  readonly x: number;
  readonly y: number;
  readonly look: 'usual' | 'more' | 'held';
  readonly words: string;
}

/** A lane for each workload: a peak for each point, the higher the further from its usual. */
@Component({
  selector: 'lx-change-lanes',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<div class="lanes">
    @for (row of lanes(); track row.id) {
      <div class="name">
        <b class="cut" [class.held]="row.held" [title]="row.name">{{ row.name }}</b>
        <span class="small mute cut" [title]="row.note">{{ row.note }}</span>
      </div>
      <svg
        [attr.viewBox]="'0 0 ' + width + ' ' + laneHeight"
        preserveAspectRatio="none"
        role="group"
        [attr.aria-label]="'Points of ' + row.name"
      >
        <defs>
          <pattern [id]="'hatch' + row.id" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="5" height="5" class="under" />
            <rect width="2.4" height="5" class="stripe" />
          </pattern>
        </defs>
        <line x1="0" [attr.x2]="width" [attr.y1]="laneHeight - 4" [attr.y2]="laneHeight - 4" class="ground" />
        @for (m of row.marks; track m.point.id) {
          <path
            [attr.d]="m.path"
            [attr.class]="m.look"
            [class.chosen]="m.point.id === chosen()"
            [attr.fill]="m.look === 'held' ? 'url(#hatch' + row.id + ')' : null"
            role="button"
            tabindex="0"
            [attr.aria-label]="m.words"
            [attr.aria-pressed]="m.point.id === chosen()"
            (click)="picked.emit(m.point.id)"
            (keydown.enter)="picked.emit(m.point.id)"
            (keydown.space)="picked.emit(m.point.id); $event.preventDefault()"
          >
            <title>{{ m.words }}</title>
          </path>
        }
      </svg>
    }
    <span></span>
    <div class="days small mute">
      @for (d of days(); track d.at) {
        <span [style.left.%]="d.left">{{ d.text }}</span>
      }
    </div>
  </div>`,
  styles: `
    .lanes {
      display: grid;
      grid-template-columns: minmax(120px, 190px) minmax(0, 1fr);
      column-gap: 12px;
      align-items: center;
    }
    .name {
      display: grid;
      line-height: 1.25;
    }
    .held {
      color: var(--fail);
    }
    svg {
      width: 100%;
      height: 44px;
      display: block;
    }
    .ground {
      stroke: var(--line);
    }
    path {
      cursor: pointer;
      stroke: transparent;
      stroke-width: 8px;
      paint-order: stroke;
    }
    path.usual {
      fill: var(--incremental);
      opacity: 0.55;
    }
    path.more {
      fill: var(--warn);
    }
    path.chosen,
    path:focus-visible {
      stroke: var(--lapis);
      stroke-width: 2px;
      outline: none;
    }
    .under {
      fill: var(--fail-mid);
    }
    .stripe {
      fill: var(--fail);
    }
    .days {
      position: relative;
      height: 18px;
    }
    .days span {
      position: absolute;
      transform: translateX(-50%);
      white-space: nowrap;
    }
  `,
})
export class ChangeLanes {
  private readonly session = inject(Session);
  readonly changes = input.required<Changes>();
  readonly chosen = input<string>();
  readonly picked = output<string>();
  protected readonly width = width;
  protected readonly laneHeight = laneHeight;

  protected readonly lanes = computed(() =>
    this.changes().rows.map((row) => ({
      id: row.id,
      name: row.name,
      held: row.points.some((p) => p.suspect),
      note: this.noteOf(row),
      marks: row.points.map((p) => this.markOf(row, p)),
    })),
  );

  protected readonly days = computed(() => {
    const { from, to } = this.changes();
    const every = Math.max(1, Math.round((to - from) / day / 7));
    const first = Math.ceil(from / day) * day;
    const at = Array.from({ length: Math.floor((to - first) / day) + 1 }, (_, i) => first + i * day).filter((_, i) => i % every === 0);
    return at
      .map((moment) => ({
        at: moment,
        left: ((moment - from) / (to - from)) * 100,
        text: formatMoment(moment, this.session.zone(), to).replace(/ \d\d:\d\d$/, ''),
      }))
      .filter((d) => d.left > 3 && d.left < 97);
  });

  private noteOf(row: ChangedWorkload): string {
    if (row.points.some((p) => p.suspect)) return 'held';
    const { pointsToLearn } = this.changes();
    if (row.learned < pointsToLearn) return `learning, ${row.learned} of ${pointsToLearn} points`;
    return row.reason;
  }

  private markOf(row: ChangedWorkload, point: ChangedPoint): Mark {
    const { from, to } = this.changes();
    const x = ((point.moment - from) / (to - from)) * width;
    const ground = laneHeight - 4;
    const y = ground - 3 - ((ground - 3 - top / 2) * point.score) / 100;
    const when = formatMoment(point.moment, this.session.zone(), to);
    const what = point.first ? 'the first point' : `${point.score} of 100 unusual${point.suspect ? ', held' : ''}`;
    return {
      point,
      x,
      y,
      look: point.suspect ? 'held' : point.score >= 40 ? 'more' : 'usual',
      words: `${row.name}, ${when}: ${what}`,
      path: point.first
        ? `M${x - 4},${ground - 4} a4,4 0 1,0 8,0 a4,4 0 1,0 -8,0 Z`
        : `M${x - half},${ground} L${x},${y} L${x + half},${ground} Z`,
    };
  }
}
