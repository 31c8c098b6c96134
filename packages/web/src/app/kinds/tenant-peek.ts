import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { WorkloadRow } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { memberNouns, tenantFacts } from './tenant-words';

/** What is known of a person, a site or a room. */
@Component({
  selector: 'lx-tenant-peek',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `@if (facts(); as f) {
    <dl class="small">
      <dt>Is a</dt>
      <dd>
        {{ nouns[f.type] }}
        @if (!f.active) {
          , who may not sign in any more
        }
      </dd>
      @if (f.mail) {
        <dt>Mail</dt>
        <dd class="num">{{ f.mail }}</dd>
      }
      @if (f.groups.length) {
        <dt>Groups</dt>
        <dd>{{ f.groups.join(', ') }}</dd>
      }
      @if (workload().gone; as gone) {
        <dt>Left</dt>
        <dd>{{ gone | moment }}; the points stay until they expire</dd>
      }
      <dt>Connection</dt>
      <dd><a [routerLink]="['/estate/tenants', workload().source.id]">services and accounts</a></dd>
    </dl>
  }`,
  styleUrl: './peek.scss',
})
export class TenantPeek {
  readonly workload = input.required<WorkloadRow>();
  protected readonly facts = computed(() => tenantFacts(this.workload()));
  protected readonly nouns = memberNouns;
}
