import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { WorkloadRow } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { bucketFacts, sizeWords, versioningWords } from './bucket-words';

/** What is known of a bucket. */
@Component({
  selector: 'lx-bucket-peek',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `@if (facts(); as f) {
    <dl class="small">
      <dt>Holds</dt>
      <dd>{{ size() }}</dd>
      @if (f.frozen) {
        <dt>Frozen</dt>
        <dd class="w">{{ f.frozen | count: 'object' }}, which have to be thawed before they can be read</dd>
      }
      <dt>Versions</dt>
      <dd>{{ versions() }}</dd>
      @if (f.trouble) {
        <dt>Trouble</dt>
        <dd class="w">{{ f.trouble }}</dd>
      }
      @if (workload().gone; as gone) {
        <dt>Removed</dt>
        <dd>{{ gone | moment }}; the points stay until they expire, and can go to a new bucket</dd>
      }
      <dt>Connection</dt>
      <dd><a [routerLink]="['/estate/storages', workload().source.id]">service and account</a></dd>
    </dl>
  }`,
  styleUrl: './peek.scss',
})
export class BucketPeek {
  readonly workload = input.required<WorkloadRow>();
  protected readonly facts = computed(() => bucketFacts(this.workload()));
  protected readonly size = computed(() => {
    const facts = this.facts();
    return facts ? sizeWords(facts) : '';
  });
  protected readonly versions = computed(() => {
    const facts = this.facts();
    return facts ? `It ${versioningWords[facts.versioning]}${facts.locks ? '; it can lock them' : ''}.` : '';
  });
}
