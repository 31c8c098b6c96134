import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { Answered, Unit } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { BehaviorSubject, merge, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';

const lookEveryMs = 5000;

/** Machines that were started from a recovery medium and wait to become a server. */
@Component({
  selector: 'lx-units-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Certain, FormDialog, ...formatPipes],
  templateUrl: './units-page.html',
  styles:
    'pre { white-space: pre-wrap; overflow-wrap: anywhere; background: var(--sheet-2); padding: 10px 12px; margin: 0; font-size: 12px; } td { vertical-align: top; } .acts { display: inline-flex; gap: 8px; }',
})
export class UnitsPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly again = new BehaviorSubject<void>(undefined);
  private readonly result = toSignal(
    merge(this.again, timer(lookEveryMs, lookEveryMs)).pipe(
      switchMap(() => this.api.call('listUnits').pipe(outcome<Answered<'listUnits'>>())),
    ),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows);
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly invited = signal<{ code: string; until: number } | undefined>(undefined);
  protected readonly forgetting = signal<Unit | undefined>(undefined);
  protected readonly problem = signal('');

  protected machine({ facts }: Unit): string {
    return [`${facts.cores} cores`, formatBytes(facts.memory), facts.firmware === 'uefi' ? 'UEFI' : 'BIOS', facts.architecture].join(', ');
  }

  protected invite(): void {
    this.api.call('inviteUnit', { body: {} }).subscribe({
      next: (invited) => {
        this.invited.set(invited);
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }

  protected forget({ name }: Unit): void {
    this.api.call('forgetUnit', { id: name }).subscribe({
      next: () => {
        this.forgetting.set(undefined);
        this.again.next();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
