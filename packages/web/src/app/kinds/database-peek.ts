import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { WorkloadRow } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { databaseFacts, serverWords } from './database-words';

const mostShown = 40;

/** What a database server says of itself. */
@Component({
  selector: 'lx-database-peek',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `@if (facts(); as f) {
    <dl class="small">
      <dt>Databases</dt>
      <dd>
        @for (d of shown(); track d.name; let last = $last) {
          <span class="nowrap"
            >{{ d.name }} <span class="num">{{ d.bytes | bytes }}</span>, {{ d.tables | count: 'table' }}{{ last ? '' : '; ' }}</span
          >
        } @empty {
          none but the server's own
        }
        @if (f.databases.length > shown().length) {
          <span class="mute">and {{ f.databases.length - shown().length }} more</span>
        }
      </dd>
      <dt>Server</dt>
      <dd>{{ words(f) }}</dd>
      <dt>Log</dt>
      <dd>
        @if (f.logs.on) {
          kept {{ f.logs.hours === null ? 'for ever' : 'for ' + f.logs.hours + ' h' }}: any second can be reached
          <a [routerLink]="['/estate', workload().id, 'second']">back to a second</a>
        } @else {
          <span class="w">off: it can be brought back to points only, not to a second</span>
        }
      </dd>
      <dt>Connection</dt>
      <dd><a [routerLink]="['/estate/systems', workload().source.id]">address, account and rights</a></dd>
    </dl>
  }`,
  styleUrl: './peek.scss',
})
export class DatabasePeek {
  readonly workload = input.required<WorkloadRow>();
  protected readonly words = serverWords;
  protected readonly facts = computed(() => databaseFacts(this.workload()));
  protected readonly shown = computed(() => this.facts()?.databases.slice(0, mostShown) ?? []);
}
