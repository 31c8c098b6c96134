import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { WorkloadRow } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { shareFacts } from './share-words';

/** What is known of a network share. */
@Component({
  selector: 'lx-share-peek',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `@if (facts(); as f) {
    <dl class="small">
      @if (f.comment) {
        <dt>Said of it</dt>
        <dd>{{ f.comment }}</dd>
      }
      @if (f.trouble) {
        <dt>Trouble</dt>
        <dd class="w">{{ f.trouble }}</dd>
      }
      @if (workload().gone; as gone) {
        <dt>Removed</dt>
        <dd>{{ gone | moment }}; the points stay until they expire, and can go to another share</dd>
      }
      <dt>Connection</dt>
      <dd><a [routerLink]="['/estate/file-servers', workload().source.id]">server and account</a></dd>
    </dl>
  }`,
  styleUrl: './peek.scss',
})
export class SharePeek {
  readonly workload = input.required<WorkloadRow>();
  protected readonly facts = computed(() => shareFacts(this.workload()));
}
