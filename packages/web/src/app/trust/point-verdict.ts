import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { PointScanRow } from '@lithodex/contract';
import { map, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { verdictLook, verdictSentence } from './verdict-words';

/** What a scan said of a point, and where to go instead when it found something. */
@Component({
  selector: 'lx-point-verdict',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `@if (scan(); as s) {
    <span [class]="look[s.verdict]">{{ words() }}</span>
    @if (s.verdict === 'infected' || s.verdict === 'suspect') {
      @if (s.lastClean; as clean) {
        <a [routerLink]="['/estate', workload()]" [queryParams]="{ at: clean.moment }"
          >last {{ clean.verdict === 'clean' ? 'scanned clean' : 'with nothing against it' }}: {{ clean.moment | moment }}</a
        >
      } @else {
        <span class="mute">no other point is known to be better</span>
      }
    }
  }`,
  styles: ':host { display: contents; }',
})
export class PointVerdict {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  private readonly session = inject(Session);
  readonly pointId = input.required<string>();
  readonly workload = input.required<number>();
  protected readonly look = verdictLook;
  private readonly result = toSignal(
    toObservable(this.pointId).pipe(
      switchMap((id) =>
        this.live
          .ticks((e) => e.kind === 'point')
          .pipe(
            switchMap(() => this.api.call('pointScan', { id }).pipe(outcome<PointScanRow>())),
            map((o) => ({ id, value: o.value })),
          ),
      ),
    ),
  );
  /** Nothing is said where it can not be told: what is kept on a storage only is not scanned. */
  protected readonly scan = computed(() => (this.result()?.id === this.pointId() ? this.result()?.value : undefined));
  protected readonly words = computed(() => {
    const scan = this.scan();
    return scan ? verdictSentence(scan, this.session.zone(), this.session.now()) : '';
  });
}
