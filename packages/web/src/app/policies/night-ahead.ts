import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { NightFit } from '@lithodex/contract';
import { countOf, formatDuration } from '@lithodex/core';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';

const width = 308;

/** How the work of the next 24 hours will go: when it ends, what misses its window, and what would help. */
@Component({
  selector: 'lx-night-ahead',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `
    <h2>The next 24 hours</h2>
    @if (result()?.failure; as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    }
    @if (fit(); as n) {
      <p class="m-0">{{ sentence(n) }}</p>
      @if (n.missed) {
        <p class="m-0 w">{{ missedWords(n.missed) }}</p>
      }
      @if (n.policies.length) {
        <svg [attr.viewBox]="'0 0 ' + width + ' ' + height()" width="100%" role="img" aria-label="When each policy is at work">
          @for (bar of bars(); track bar.id) {
            <text x="0" [attr.y]="bar.y + 9" font-size="11" fill="var(--ink-2)">{{ bar.name }}</text>
            <line x1="0" [attr.x2]="width" [attr.y1]="bar.y + 19" [attr.y2]="bar.y + 19" stroke="var(--row)" />
            <rect [attr.x]="bar.x" [attr.y]="bar.y + 14" [attr.width]="bar.width" height="10" rx="2" [attr.fill]="bar.fill">
              <title>{{ bar.title }}</title>
            </rect>
          }
          @for (tick of ticks(); track tick.x) {
            <text [attr.x]="tick.x" [attr.y]="height() - 3" font-size="10.5" fill="var(--ink-3)" text-anchor="middle">
              {{ tick.label }}
            </text>
          }
        </svg>
        <ul class="list">
          @for (p of n.policies; track p.id) {
            <li>
              <a [routerLink]="['/policies', p.id]" class="cut">{{ p.name }}</a>
              <span class="mute">{{ p.tasks }}, {{ p.ends === null ? 'does not start' : 'done ' + (p.ends | moment) }}</span>
              @if (p.missed) {
                <span class="w">{{ p.missed }} missed</span>
              }
            </li>
          }
        </ul>
      }
      @if (n.changes.length) {
        <h2>What would help</h2>
        <ul class="list">
          @for (c of n.changes; track c.text) {
            <li>
              <span>{{ c.text }}</span> <span class="mute">{{ gain(n, c) }}</span>
            </li>
          }
        </ul>
      }
      @if (n.before; as b) {
        <h2>How good this is</h2>
        <p class="m-0 mute">
          For the last night it says {{ b.foretold | moment }}; its {{ count(b.tasks) }} had ended by {{ b.ended | moment }}.
        </p>
      }
      @if (n.guessed) {
        <p class="m-0 mute small">{{ count(n.guessed) }} never ran yet; their time is guessed from that of the others.</p>
      }
    } @else if (!result()?.failure) {
      <div class="skeleton" style="height: 120px"></div>
    }
  `,
  styles: `
    :host {
      display: flex;
      flex-direction: column;
      gap: 9px;
      padding: 14px 16px;
      font-size: 13px;
    }
    svg {
      flex: none;
    }
    .list {
      margin: 0;
      padding: 0;
      list-style: none;
      display: flex;
      flex-direction: column;
      gap: 3px;
    }
    .list li {
      display: flex;
      gap: 8px;
      justify-content: space-between;
    }
    .list .mute {
      white-space: nowrap;
    }
  `,
})
export class NightAhead {
  private readonly api = inject(Api);
  protected readonly width = width;
  protected readonly result = toSignal(
    inject(Live).reloading(
      () => this.api.call('nightFit').pipe(outcome<NightFit>()),
      (e) => e.kind === 'policy' || e.kind === 'run',
      10_000,
    ),
  );
  protected readonly fit = computed(() => this.result()?.value);
  protected readonly height = computed(() => 26 * (this.fit()?.policies.length ?? 0) + 20);
  private readonly x = computed(() => {
    const n = this.fit();
    const from = n?.from ?? 0;
    const to = Math.max(n?.to ?? 1, n?.ends ?? 1);
    return (at: number) => ((at - from) / (to - from)) * width;
  });
  protected readonly bars = computed(() =>
    (this.fit()?.policies ?? []).map((p, i) => {
      const x = this.x()(p.starts);
      return {
        id: p.id,
        name: p.name,
        y: 26 * i,
        x,
        width: p.ends === null ? 3 : Math.max(3, this.x()(p.ends) - x),
        fill: p.missed ? 'var(--warn)' : 'var(--incremental)',
        title: p.ends === null ? 'does not start' : formatDuration(p.ends - p.starts),
      };
    }),
  );
  protected readonly ticks = computed(() => {
    const n = this.fit();
    if (!n) return [];
    const step = 6 * 3_600_000;
    return [1, 2, 3].map((i) => ({ x: this.x()(n.from + i * step), label: `in ${6 * i} h` }));
  });

  protected count(tasks: number): string {
    return countOf(tasks, 'task');
  }

  protected sentence({ tasks, movers, ends, from }: NightFit): string {
    if (!tasks) return 'Nothing is due.';
    if (!movers) return `${countOf(tasks, 'task')} will be due, but no mover answers, so none of them will start.`;
    return `${countOf(tasks, 'task')} on ${countOf(movers, 'mover')}: all ends ${ends === null ? 'never' : `in ${formatDuration(ends - from)}`}.`;
  }

  protected missedWords(missed: number): string {
    return `${countOf(missed, 'task')} will not start or end in ${missed === 1 ? 'its' : 'their'} window.`;
  }

  protected gain(n: NightFit, change: NightFit['changes'][number]): string {
    const fewer = n.missed - change.missed;
    if (fewer > 0) return `${fewer} fewer missed`;
    return n.ends !== null && change.ends !== null ? `done ${formatDuration(n.ends - change.ends)} sooner` : '';
  }
}
