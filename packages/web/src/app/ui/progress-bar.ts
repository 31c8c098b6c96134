import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { Progress } from '@lithodex/contract';
import { countOf, formatBytes, formatDuration, formatRate } from '@lithodex/core';

/** Progress of a piece of work: share, items, bytes, rate, reduction, time left. */
@Component({
  selector: 'lx-progress',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<div class="bar" role="progressbar" [attr.aria-valuenow]="percent()" aria-valuemin="0" aria-valuemax="100">
      <i [style.width.%]="percent() ?? 8"></i>
    </div>
    <span class="small mute">{{ text() }}</span>`,
  styles:
    '.bar { height: 6px; border-radius: 3px; background: var(--hush); overflow: hidden; margin-bottom: 3px; } .bar i { display: block; height: 100%; background: var(--live); transition: width 0.3s; }',
})
export class ProgressBar {
  readonly progress = input.required<Progress>();
  protected readonly percent = computed(() => {
    const p = this.progress();
    const share = p.expectedBytes > 0 ? p.bytes / p.expectedBytes : p.expectedItems > 0 ? p.items / p.expectedItems : undefined;
    return share === undefined ? null : Math.min(100, Math.round(share * 100));
  });
  protected readonly text = computed(() => {
    const p = this.progress();
    const parts = [p.phase, countOf(p.items, 'item'), formatBytes(p.bytes)];
    if (p.rate > 0) parts.push(formatRate(p.rate));
    if (p.stored > 0 && p.fresh > p.stored * 1.05) parts.push(`new data ${(p.fresh / p.stored).toFixed(1)} × smaller`);
    if (p.leftMs !== null) parts.push(`${formatDuration(p.leftMs)} left`);
    return parts.join(' · ');
  });
}
