import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { formatDuration } from '@lithodex/core';
import { StateMark } from '../ui/state-mark';
import type { Lane } from './sequence-steps';

const leastScaleMs = 1000;

/** Steps of a sequence side by side over the time from its begin. */
@Component({
  selector: 'lx-sequence-lanes',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [StateMark],
  template: `<ol [attr.aria-label]="label()">
      @for (lane of drawn(); track $index) {
        <li>
          <span class="no num mute">{{ $index + 1 }}</span>
          <span class="name cut" [title]="lane.name">
            @if (lane.mark; as mark) {
              <lx-mark [state]="mark" />&ngsp;
            }
            {{ lane.name }}
          </span>
          <span class="track">
            @if (lane.left !== null) {
              <span class="bar" [class.unknown]="lane.open" [style.left.%]="lane.left" [style.width.%]="lane.width"></span>
            }
          </span>
          <span class="says num small">{{ lane.says }}</span>
        </li>
      }
    </ol>
    @if (scale() > 0) {
      <div class="axis small mute num" aria-hidden="true">
        <span>0</span><span>{{ duration(scale() / 2) }}</span
        ><span>{{ duration(scale()) }}</span>
      </div>
    }`,
  styles: `
    ol {
      list-style: none;
      margin: 0;
      padding: 0;
    }
    li {
      display: grid;
      grid-template-columns: 22px minmax(70px, 130px) minmax(60px, 1fr) 128px;
      gap: 8px;
      align-items: center;
      min-height: 30px;
      border-bottom: 1px solid var(--line);
    }
    .track {
      position: relative;
      height: 14px;
      background: var(--chalk);
    }
    .bar {
      position: absolute;
      top: 0;
      bottom: 0;
      min-width: 3px;
      background: var(--lapis);
    }
    .bar.unknown {
      background: repeating-linear-gradient(135deg, var(--lapis) 0 3px, transparent 3px 7px);
    }
    .says {
      text-align: right;
      white-space: nowrap;
    }
    .axis {
      display: flex;
      justify-content: space-between;
      margin: 4px 136px 0 160px;
    }
  `,
})
export class SequenceLanes {
  readonly lanes = input.required<readonly Lane[]>();
  readonly label = input('Steps over time');
  protected readonly duration = formatDuration;
  /** ms that the track is wide. */
  protected readonly scale = computed(() => Math.max(leastScaleMs, ...this.lanes().map((l) => l.endMs ?? l.beginMs ?? 0)));
  protected readonly drawn = computed(() => {
    const scale = this.scale();
    return this.lanes().map(({ name, mark, beginMs, endMs }) => ({
      name,
      mark,
      open: endMs === null,
      left: beginMs === null ? null : (100 * beginMs) / scale,
      width: beginMs === null ? 0 : Math.max(0, 100 * (((endMs ?? scale) - beginMs) / scale)),
      says: saysOf({ name, mark, beginMs, endMs }),
    }));
  });
}

/** What is foretold is told by its end, what went by how long it took. */
function saysOf({ mark, beginMs, endMs }: Lane): string {
  if (mark !== null) return beginMs === null || endMs === null ? '' : formatDuration(endMs - beginMs);
  if (endMs !== null) return `back at ${formatDuration(endMs)}`;
  return beginMs === null ? 'not known' : `from ${formatDuration(beginMs)}`;
}
