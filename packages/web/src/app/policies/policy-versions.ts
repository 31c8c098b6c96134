import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { PolicyBody, PolicyVersion } from '@lithodex/contract';
import { switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { policyDifferences, type PolicyNames } from './sentence';

/** What the draft changes, and what was changed before: when, by whom and how. */
@Component({
  selector: 'lx-policy-versions',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  template: `
    @if (drafted().length) {
      <h2>This draft changes</h2>
      <ul>
        @for (line of drafted(); track $index) {
          <li>{{ line }}</li>
        }
      </ul>
    }
    @if (result()?.failure; as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    }
    <h2>Versions</h2>
    @for (v of versions(); track v.no) {
      <div class="version">
        <span class="num">{{ v.no }}</span>
        <span>
          <span [title]="v.at | exact">{{ v.at | moment }}</span>
          @if (v.by) {
            <span class="mute"> by {{ v.by }}</span>
          }
          @if ($first) {
            <span class="tag">in force</span>
          }
          @for (line of v.changes; track $index) {
            <span class="line">{{ line }}</span>
          }
          @if ($last) {
            <span class="line mute">as it was first written down</span>
          }
        </span>
        @if (!$first && !disabled()) {
          <button type="button" class="act sm" (click)="taken.emit(v.body)">Take as draft</button>
        }
      </div>
    }
  `,
  styles: `
    :host {
      display: flex;
      flex-direction: column;
      gap: 7px;
      font-size: 13px;
    }
    ul {
      margin: 0;
      padding-left: 18px;
    }
    .version {
      display: grid;
      grid-template-columns: 24px 1fr auto;
      gap: 8px;
      align-items: start;
    }
    .line {
      display: block;
      font-size: 12.5px;
    }
  `,
})
export class PolicyVersions {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  readonly policyId = input.required<number>();
  readonly draft = input.required<PolicyBody>();
  readonly names = input.required<PolicyNames>();
  readonly disabled = input(false);
  readonly taken = output<PolicyBody>();

  protected readonly result = toSignal(
    toObservable(this.policyId).pipe(
      switchMap((id) =>
        this.live.reloading(
          () => this.api.call('policyVersions', { id }).pipe(outcome<{ rows: PolicyVersion[] }>()),
          (e) => e.kind === 'policy',
        ),
      ),
    ),
  );
  private readonly rows = computed(() => this.result()?.value?.rows ?? []);
  protected readonly versions = computed(() =>
    this.rows().map((version, i, all) => {
      const before = all[i + 1];
      return { ...version, changes: before ? policyDifferences(before.body, version.body, this.names()) : [] };
    }),
  );
  protected readonly drafted = computed(() => {
    const newest = this.rows()[0];
    return newest ? policyDifferences(newest.body, this.draft(), this.names()) : [];
  });
}
