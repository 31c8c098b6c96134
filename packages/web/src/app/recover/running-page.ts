import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { Answered } from '@lithodex/contract';
import { switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { RunningMachineCard } from './running-machine-card';

/** Machines that run from the store. */
@Component({
  selector: 'lx-running-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RunningMachineCard],
  templateUrl: './running-page.html',
  styles: '.all { display: grid; gap: 12px; align-content: start; }',
})
export class RunningPage {
  private readonly api = inject(Api);
  private readonly result = toSignal(
    inject(Live)
      .ticks((e) => e.kind === 'run' || e.kind === 'progress', 1000)
      .pipe(switchMap(() => this.api.call('listRunning').pipe(outcome<Answered<'listRunning'>>()))),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows);
  protected readonly failure = computed(() => this.result()?.failure);
}
