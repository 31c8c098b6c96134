import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { SystemTest } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

/** What a test of a connection found: right by right, each with what was seen. */
@Component({
  selector: 'lx-tested-rights',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [StateMark, ...formatPipes],
  template: `@let t = test();
    <div><lx-mark [state]="t.ok ? (anyMissing() ? 'look' : 'fine') : 'stop'" /> {{ t.message }}</div>
    <ul>
      @for (n of t.needs; track n.right; let i = $index) {
        <li>
          <lx-mark [state]="n.missing ? 'look' : 'fine'" /> <b [class.w]="n.missing">{{ n.right }}</b>
          <span class="mute">{{ n.neededFor }}</span>
          <div class="small said" [class.w]="n.missing">{{ t.remarks[i] }}</div>
        </li>
      }
    </ul>
    <div class="facts">
      <span
        >Found<b>{{ t.found | count: holds() }}</b></span
      >
    </div>`,
  styleUrls: ['./connection-page.scss', './tenant-page.scss'],
  styles: ':host { display: contents; }',
})
export class TestedRights {
  readonly test = input.required<SystemTest>();
  /** What one of what it holds is called. */
  readonly holds = input.required<string>();
  protected readonly anyMissing = computed(() => this.test().needs.some((n) => n.missing));
}
