import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { Answered } from '@lithodex/contract';
import { formatRate, localTime } from '@lithodex/core';
import { map, of, switchMap, timer } from 'rxjs';
import type { Data } from 'plotly.js';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { byteTicks, colour, Plot } from '../ui/plot';
import { rateMargin } from './host-charts';

const againMs = 5000;

/** How fast a run read and wrote, over its time. */
@Component({
  selector: 'lx-run-rates',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Plot],
  template: `@if (chart(); as c) {
      <lx-plot [traces]="c.traces" [layout]="c.layout" label="How fast it read and wrote" [height]="150" />
    } @else if (result()?.failure; as f) {
      <p class="f small m-0">{{ f.message }}</p>
    } @else if (result()) {
      <p class="mute small m-0">Nothing was moved.</p>
    }`,
})
export class RunRates {
  private readonly api = inject(Api);
  private readonly session = inject(Session);
  readonly runId = input.required<number>();
  /** Whether the run still goes on. */
  readonly open = input(false);
  /** What the rates are of: a backup reads from its source and writes to its target, others move. */
  readonly backup = input(true);
  private readonly asked = computed(() => ({ id: this.runId(), open: this.open() }));
  protected readonly result = toSignal(
    toObservable(this.asked).pipe(
      switchMap(({ id, open }) => (open ? timer(0, againMs) : of(0)).pipe(map(() => id))),
      switchMap((id) => this.api.call('runRates', { id }).pipe(outcome<Answered<'runRates'>>())),
    ),
  );
  protected readonly chart = computed(() => {
    const rates = this.result()?.value;
    if (!rates) return undefined;
    const most = Math.max(0, ...rates.read, ...rates.written);
    if (!most) return undefined;
    const x = rates.read.map((_, i) => localTime(rates.from + (i + 0.5) * rates.slotMs, this.session.zone()));
    const line = (name: string, y: number[], tint: string): Data => ({
      type: 'scatter',
      mode: 'lines',
      name,
      x,
      y,
      text: y.map((v) => `${name} ${formatRate(v)}`),
      hovertemplate: '%{text}<extra></extra>',
      line: { color: colour(tint), width: 1.6 },
    });
    const traces = this.backup()
      ? [line('read', rates.read, 'lapis'), line('written', rates.written, 'incremental')]
      : [line('moved', rates.read, 'lapis')];
    return { traces, layout: { margin: rateMargin, yaxis: byteTicks(most, formatRate), xaxis: { hoverformat: '%H:%M:%S' } } };
  });
}
