import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import { countOf, cutMiddle, formatDuration, formatMoment } from '@lithodex/core';
import { catchError, EMPTY, merge, switchMap, timer } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { Session } from '../data/session';

const hour = 3_600_000;
const width = 760;
const nowX = 150;

/** Hours from now (−1 … 12) to a place on the ribbon; "now" is fixed, the future is folded. */
function xOf(ms: number): number {
  return ms <= 0
    ? nowX + Math.max(-1, ms / hour) * (nowX - 10)
    : nowX + ((width - nowX - 10) * Math.log2(1 + Math.min(12, ms / hour))) / Math.log2(13);
}

/** The ledge: running work crosses "now", the next twelve hours stand to the right. It opens into the runs. */
@Component({
  selector: 'lx-ledge',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink],
  template: `<footer>
    <a routerLink="/runs" [queryParams]="{ states: 'running,waiting' }"
      ><b>{{ headline() }}</b></a
    >
    <svg [attr.viewBox]="'0 0 ' + width + ' 34'" [attr.width]="width" height="34" role="img" [attr.aria-label]="headline()">
      <line x1="10" [attr.x2]="width" y1="24" y2="24" stroke="var(--line)" />
      @for (tick of ticks; track tick.label) {
        <text [attr.x]="tick.x" y="33" font-size="9.5" fill="var(--ink-3)" text-anchor="middle">{{ tick.label }}</text>
      }
      @for (run of running(); track $index) {
        <rect [attr.x]="run.from" [attr.y]="run.y" [attr.width]="run.now - run.from" height="7" rx="3.5" fill="var(--live)" />
        <rect [attr.x]="run.now" [attr.y]="run.y" [attr.width]="run.to - run.now" height="7" rx="3.5" fill="var(--lapis-line)" />
        <text [attr.x]="run.to + 7" [attr.y]="run.y + 7" font-size="11" fill="var(--ink)">{{ run.text }}</text>
      }
      @for (next of coming(); track $index) {
        <rect
          [attr.x]="next.x"
          y="9"
          [attr.width]="next.width"
          height="11"
          rx="5.5"
          fill="var(--sheet)"
          stroke="var(--ink-3)"
          stroke-dasharray="2 2"
        >
          <title>{{ next.full }}</title>
        </rect>
        <text [attr.x]="next.x + 7" y="17.8" font-size="10.5" fill="var(--ink-2)">{{ next.text }}</text>
      }
      <line [attr.x1]="nowX" [attr.x2]="nowX" y1="1" y2="27" stroke="var(--ink)" stroke-width="1.5" />
    </svg>
    <span class="clock">now {{ clock() }} {{ session.zone() }}</span>
  </footer>`,
  styles: `
    footer {
      display: flex;
      align-items: center;
      gap: 18px;
      padding: 0 18px;
      height: 36px;
      background: var(--sheet);
      border-top: 1px solid var(--line);
      font-size: 12.5px;
      color: var(--ink-2);
      overflow: hidden;
    }
    a {
      color: var(--ink);
      white-space: nowrap;
      min-width: 84px;
    }
    svg {
      flex: none;
    }
    .clock {
      margin-left: auto;
      white-space: nowrap;
    }
    @media (max-width: 1200px) {
      svg {
        flex: 0 1 auto;
        min-width: 0;
      }
    }
  `,
})
export class Ledge {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly data = toSignal(
    merge(
      inject(Live).reloading(
        () => this.load(),
        (e) => e.kind === 'run' || e.kind === 'progress' || e.kind === 'policy',
      ),
      timer(30_000, 30_000).pipe(switchMap(() => this.load())),
    ),
  );
  protected readonly width = width;
  protected readonly nowX = nowX;
  protected readonly ticks = [-1, 0, 1, 3, 6, 12].map((h) => ({ x: xOf(h * hour), label: h === 0 ? 'now' : `${h > 0 ? '+' : ''}${h} h` }));
  protected readonly headline = computed(() => {
    const data = this.data();
    if (!data) return '';
    const also = [
      data.waiting && `${data.waiting} waiting`,
      data.followed && `${countOf(data.followed, 'log')} followed`,
      data.attached && `${countOf(data.attached, 'disk')} attached`,
      data.fromStore && `${countOf(data.fromStore, 'machine')} from the store`,
    ].filter(Boolean);
    return [`${data.running.length || 'Nothing'} running`, ...also].join(', ');
  });
  protected readonly clock = computed(() => {
    const data = this.data();
    return formatMoment(data?.now ?? this.session.now(), this.session.zone()).slice(-5);
  });
  protected readonly running = computed(() =>
    (this.data()?.running ?? []).slice(0, 2).map((r, i) => {
      const now = this.data()!.now;
      const text = `${cutMiddle(r.name, 26)}${r.leftMs !== null ? `, ${formatDuration(r.leftMs)} left` : `, ${r.text}`}`;
      // one that began while this was put together is not ahead of now
      const from = Math.min(nowX, xOf(r.startedAt - now));
      return { y: 2 + i * 10, from, now: nowX, to: Math.max(nowX, xOf(r.leftMs ?? hour / 20)), text };
    }),
  );
  protected readonly coming = computed(() => {
    const data = this.data();
    if (!data) return [];
    let free = data.running.length ? nowX + 260 : 0;
    return data.coming.flatMap((c) => {
      const at = formatMoment(c.at, this.session.zone()).slice(-5);
      const text = `${cutMiddle(c.name, 20)} ${at}`;
      const w = text.length * 5.4 + 16;
      const x = Math.min(xOf(c.at - data.now), width - w);
      if (x < free) return [];
      free = x + w + 6;
      return [{ x, width: w, text, full: `${c.name}, ${formatMoment(c.at, this.session.zone())}` }];
    });
  });

  private load() {
    return this.api.call('ledge').pipe(catchError(() => EMPTY));
  }
}
