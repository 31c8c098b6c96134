import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { WorkloadRow } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';

/** What a platform says of a machine, and how quiet its points will be. */
@Component({
  selector: 'lx-machine-peek',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  template: `@if (workload().machine; as m) {
    <dl class="small">
      <dt>Where</dt>
      @if (m.cloud; as c) {
        <dd>Region {{ m.host }}, {{ m.location || 'place unknown' }}; groups {{ c.groups.join(', ') || 'none' }}</dd>
        <dt>Reached</dt>
        <dd>{{ c.address ? 'from everywhere, as ' + c.address : 'not from everywhere' }}</dd>
      } @else {
        <dd>{{ m.host }} in {{ m.cluster || 'no cluster' }}, {{ m.location || 'place unknown' }}; folder {{ m.folder }}</dd>
      }
      <dt>Disks</dt>
      <dd>
        @for (d of m.disks; track d.id; let last = $last) {
          <span class="nowrap"
            >{{ d.label }} <span class="num">{{ d.size | bytes }}</span> {{ d.storage ? 'on ' + d.storage : 'in the store it runs from'
            }}{{ last ? '' : '; ' }}</span
          >
        }
      </dd>
      <dt>Machine</dt>
      <dd>
        {{ m.cloud ? m.cloud.size + ', ' : '' }}{{ m.system }}, {{ m.processors }} processors, {{ m.memory }} MB of memory, networks
        {{ m.networks.join(', ') || 'none' }}
      </dd>
      <dt>How quiet</dt>
      <dd>{{ quiet() }}</dd>
    </dl>
  }`,
  styleUrl: './peek.scss',
})
export class MachinePeek {
  readonly workload = input.required<WorkloadRow>();
  protected readonly quiet = computed(() => {
    const { machine, inside } = this.workload();
    if (!machine) return '';
    const { template, running, helper } = machine;
    if (template) return 'A template does not run: its disks are taken as they are.';
    if (!running) return 'It is off: its disks are taken as they are.';
    if (machine.cloud) return 'As after a loss of power: a cloud freezes disks and asks nothing inside.';
    if (helper) return 'Programs inside are brought to rest by the helper inside.';
    return inside
      ? `Programs inside are brought to rest under the account ${inside}.`
      : 'As after a loss of power: a helper or an account inside would raise that to programs at rest.';
  });
}
