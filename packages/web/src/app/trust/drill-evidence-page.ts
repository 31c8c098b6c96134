import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { DrillRow } from '@lithodex/contract';
import { switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

/** The evidence of one drill, as a page that can be printed and filed. */
@Component({
  selector: 'lx-drill-evidence-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, StateMark, ...formatPipes],
  templateUrl: './drill-evidence-page.html',
  styleUrl: './drill-evidence-page.scss',
})
export class DrillEvidencePage {
  private readonly api = inject(Api);
  readonly id = input.required<string>();
  private readonly result = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('drillEvidence', { id }).pipe(outcome<DrillRow>()))),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly drill = computed(() => this.result()?.value);

  protected print(): void {
    window.print();
  }
}
