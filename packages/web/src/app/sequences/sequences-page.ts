import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Answered, SequenceRow, SequenceRun } from '@lithodex/contract';
import { formatDuration, formatFirst } from '@lithodex/core';
import { combineLatest, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { formatPipes } from '../ui/format-pipes';
import { StateMark, type Mark } from '../ui/state-mark';
import { SequenceLanes } from './sequence-lanes';
import { expectedLanes, keyOf, type Lane } from './sequence-steps';
import { StartSequenceDialog } from './start-sequence-dialog';

const runMarks: Record<SequenceRun['state'], Mark> = { running: 'running', done: 'done', failed: 'failed', stopped: 'stopped' };

/** Restores in their order: how each would go, how it went, and what starts it. */
@Component({
  selector: 'lx-sequences-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Certain, StateMark, SequenceLanes, StartSequenceDialog, ...formatPipes],
  templateUrl: './sequences-page.html',
  styleUrl: './sequences.scss',
})
export class SequencesPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** The one that is looked at, by its address. */
  readonly sequence = input<string>();
  protected readonly acts = new Acts();
  protected readonly removing = signal<SequenceRow | undefined>(undefined);
  protected readonly starting = signal<SequenceRow | undefined>(undefined);
  private readonly result = toSignal(
    combineLatest([this.acts.changed, inject(Live).ticks((e) => e.kind === 'run', 1000)]).pipe(
      switchMap(() => this.api.call('listSequences').pipe(outcome<Answered<'listSequences'>>())),
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly rows = computed(() => this.result()?.value?.rows);
  private readonly parts = computed(() => new Map((this.result()?.value?.parts ?? []).map((p) => [keyOf(p.restore), p])));
  protected readonly chosen = computed(() => {
    const rows = this.rows() ?? [];
    return rows.find((r) => String(r.id) === this.sequence()) ?? rows[0];
  });
  protected readonly lanes = computed(() => (this.chosen() ? this.lanesOf(this.chosen()!) : []));
  protected readonly marks = runMarks;

  private lanesOf({ body }: SequenceRow): Lane[] {
    return expectedLanes(body.steps, this.parts());
  }

  protected expected(row: SequenceRow): string {
    const ends = this.lanesOf(row).map((l) => l.endMs);
    return ends.every((e) => e !== null) ? `about ${formatDuration(Math.max(0, ...ends))}` : 'nobody knows';
  }

  /** What is not known or not tried of the one that is looked at, in a sentence; '' for nothing. */
  protected readonly doubts = computed(() => {
    const of = (this.chosen()?.body.steps ?? []).map((s) => this.parts().get(keyOf(s.restore)));
    const never = of.flatMap((p) => (p?.tried === null ? [p.name] : []));
    const cannot = of.flatMap((p) => (p?.cannot ? [`${p.name}: ${p.cannot}`] : []));
    return [...(never.length ? [`${formatFirst([...new Set(never)], 4)}: never tried.`] : []), ...cannot].join(' ');
  });

  protected names({ body }: SequenceRow): string {
    return formatFirst(
      body.steps.map((s) => this.parts().get(keyOf(s.restore))?.name ?? 'what is gone'),
      4,
    );
  }

  protected late(run: SequenceRun): boolean {
    return run.objectiveMs !== null && run.tookMs !== null && run.tookMs > run.objectiveMs;
  }

  protected try(row: SequenceRow): void {
    this.acts.run(this.api.call('trySequence', { id: row.id }), ({ id }) => void this.router.navigate(['/recover/sequences/went', id]));
  }

  protected remove(row: SequenceRow): void {
    this.acts.run(this.api.call('removeSequence', { id: row.id }), () => {
      this.removing.set(undefined);
    });
  }

  protected begun(id: number): void {
    void this.router.navigate(['/recover/sequences/went', id]);
  }
}
