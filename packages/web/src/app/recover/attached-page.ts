import { ChangeDetectionStrategy, Component, computed, inject, input, numberAttribute, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Answered, Attached } from '@lithodex/contract';
import { baseName } from '@lithodex/core';
import { of, switchMap, takeWhile, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { commandsFor } from './attach-commands';
import { Commands } from './commands';

/** So often it is looked whether what was just asked for is there yet. */
const lookAgainMs = 1000;

/** Disks and volumes of points that are attached now: by whom, until when, how they are read, and away with them. */
@Component({
  selector: 'lx-attached-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Commands, ...formatPipes],
  templateUrl: './attached-page.html',
  styleUrl: './attached-page.scss',
})
export class AttachedPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** The run whose key is shown. */
  readonly run = input(undefined, { transform: (value: string | undefined) => (value === undefined ? undefined : numberAttribute(value)) });
  protected readonly problem = signal('');
  private readonly result = toSignal(
    inject(Live)
      .ticks((e) => e.kind === 'run', 1000)
      .pipe(switchMap(() => this.api.call('listAttached').pipe(outcome<Answered<'listAttached'>>()))),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows);
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly chosen = computed(() => this.rows()?.find((r) => r.runId === this.run()));
  private readonly shown = toSignal(
    toObservable(this.run).pipe(
      switchMap((id) =>
        id === undefined
          ? of<Outcome<Answered<'attached'>>>({})
          : timer(0, lookAgainMs).pipe(
              switchMap(() => this.api.call('attached', { id }).pipe(outcome<Answered<'attached'>>())),
              takeWhile((o) => o.value?.at === null, true),
            ),
      ),
    ),
  );
  protected readonly at = computed(() => this.shown()?.value?.at);
  protected readonly until = computed(() => this.shown()?.value?.until);
  protected readonly refusal = computed(() => this.shown()?.failure);
  protected readonly commands = computed(() => {
    const at = this.at();
    return at ? commandsFor(at) : [];
  });

  protected nameOf(row: Attached): string {
    return baseName(row.path);
  }

  protected show(row: Attached): void {
    const run = this.run() === row.runId ? null : row.runId;
    void this.router.navigate([], { queryParams: { run }, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected detach(row: Attached): void {
    this.problem.set('');
    this.api.call('stopRun', { id: row.runId }).subscribe({
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
