import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { countOf, formatBytes } from '@lithodex/core';
import type { ApplicationLook } from '@lithodex/kinds';

const names: Readonly<Record<string, string>> = {
  rights: 'Namespace, rights',
  volumes: 'Volumes',
  config: 'Config and secrets',
  work: 'What runs, services',
  routes: 'Routes',
};
const thickest = 18;
const thinnest = 3;

/** The way of an application from one cluster to another, step by step in the order in which it is made. */
@Component({
  selector: 'lx-move-lanes',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<div class="heads" aria-hidden="true">
      <b>{{ from() }}</b><b>{{ to() }}</b>
    </div>
    <ol>
      @for (lane of lanes(); track lane.name; let i = $index) {
        <li>
          <div class="box">
            <b>{{ i + 1 }} {{ lane.name }}</b
            ><small>{{ lane.was }}</small>
          </div>
          <div class="way">
            <span>{{ lane.moves }}</span><i [style.height.px]="lane.width" [class.quiet]="!lane.changes"></i>
          </div>
          <div class="box there" [class.changes]="lane.changes">
            <b>{{ lane.name }}</b><small>{{ lane.becomes }}</small>
          </div>
        </li>
      }
      <li>
        <div class="box">
          <b>{{ lanes().length + 1 }} Start</b><small>—</small>
        </div>
        <div class="way"><span></span><i class="quiet" style="height: 3px"></i></div>
        <div class="box there" [class.changes]="starts()">
          <b>{{ starts() ? 'Start, then ask' : 'No start' }}</b><small>{{
            starts() ? 'once volumes are whole' : 'made with no pods'
          }}</small>
        </div>
      </li>
    </ol>`,
  styleUrl: './move-lanes.scss',
})
export class MoveLanes {
  readonly look = input.required<ApplicationLook>();
  readonly from = input.required<string>();
  readonly to = input.required<string>();
  readonly starts = input.required<boolean>();
  readonly takesVolumes = input.required<boolean>();

  protected readonly lanes = computed(() => {
    const { steps, volumes } = this.look();
    const bytes = volumes.reduce((sum, v) => sum + v.bytes, 0);
    return steps.map(({ step, resources, rewritten, exists }) => {
      const isVolumes = step === 'volumes';
      const goes = isVolumes ? this.takesVolumes() && volumes.length > 0 : resources > 0;
      const moved = isVolumes ? formatBytes(bytes) : rewritten ? countOf(rewritten, 'rewritten', 'rewritten') : '';
      return {
        name: names[step] ?? step,
        was: isVolumes ? volumes.map((v) => `${v.claim} ${formatBytes(v.bytes)}`).join(', ') || 'none' : countOf(resources, 'resource'),
        moves: goes ? moved : '',
        width: isVolumes && goes ? thickest : goes ? Math.min(14, thinnest + rewritten * 3) : 0,
        changes: rewritten > 0 || (isVolumes && goes),
        becomes: isVolumes
          ? this.volumeWords()
          : [
              goes ? countOf(resources, 'resource') : 'none',
              rewritten ? `of them ${rewritten} rewritten` : '',
              exists ? `${exists} there already` : '',
            ]
              .filter(Boolean)
              .join(', '),
      };
    });
  });

  private volumeWords(): string {
    const { volumes } = this.look();
    if (!this.takesVolumes()) return 'left out';
    if (!volumes.length) return 'none';
    const classes = [...new Set(volumes.map((v) => v.class))].filter(Boolean);
    const beside = volumes.filter((v) => v.goesTo !== v.claim).map((v) => v.goesTo);
    return [classes.length ? `on ${classes.join(', ')}` : 'of the usual class', beside.length ? `beside, as ${beside.join(', ')}` : '']
      .filter(Boolean)
      .join('; ');
  }
}
