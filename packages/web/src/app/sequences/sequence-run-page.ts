import { ChangeDetectionStrategy, Component, computed, inject, input, signal, type Signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { SequenceRun } from '@lithodex/contract';
import { formatDuration } from '@lithodex/core';
import { combineLatest, filter, map, switchMap, timer } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { SequenceLanes } from './sequence-lanes';
import { stepMark, stepWord, waitWords, wentLanes } from './sequence-steps';

const lookAgainMs = 4000;

/** How one time of a sequence goes or went: step by step, with what each waits for. */
@Component({
  selector: 'lx-sequence-run-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Certain, StateMark, SequenceLanes, ...formatPipes],
  templateUrl: './sequence-run-page.html',
  styleUrl: './sequences.scss',
})
export class SequenceRunPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly id = input.required<string>();
  protected readonly acts = new Acts();
  protected readonly stopping = signal(false);
  private readonly result: Signal<Outcome<SequenceRun> | undefined> = toSignal(
    combineLatest([
      toObservable(this.id),
      this.acts.changed,
      inject(Live).ticks((e) => e.kind === 'run'),
      // steps also begin by the clock
      timer(0, lookAgainMs).pipe(
        map(() => this.run()?.state),
        filter((state) => state === undefined || state === 'running'),
      ),
    ]).pipe(switchMap(([id]) => this.api.call('getSequenceRun', { id: Number(id) }).pipe(outcome<SequenceRun>()))),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly run = computed<SequenceRun | undefined>(() => this.result()?.value);
  protected readonly lanes = computed(() => {
    const run = this.run();
    return run ? wentLanes(run, this.session.now()) : [];
  });
  protected readonly mark = stepMark;
  protected readonly word = stepWord;
  protected readonly waits = waitWords;

  /** How it stands, in a sentence. */
  protected readonly stands = computed(() => {
    const run = this.run();
    if (!run) return '';
    const back = run.steps.filter((s) => s.state === 'back').length;
    const so = `${back} of ${run.steps.length} back`;
    if (run.state === 'running') return `${so}, goes on`;
    if (run.tookMs === null) return run.state === 'stopped' ? `${so}, stopped` : `${so}: not all of it came back`;
    const late = run.objectiveMs !== null && run.tookMs > run.objectiveMs;
    const wanted =
      run.objectiveMs === null
        ? ''
        : `, ${late ? 'where' : 'within the'} ${formatDuration(run.objectiveMs)} ${late ? 'were' : 'that are'} wanted`;
    return `all back after ${formatDuration(run.tookMs)}${wanted}`;
  });
  /** It stands still until somebody decides. */
  protected readonly waitsForUs = computed(() => this.run()?.state === 'failed' && !this.run()?.trial);
  protected readonly mayStop = computed(() => {
    const run = this.run();
    if (run?.state !== 'running' && !this.waitsForUs()) return false;
    return run?.trial ? this.session.runs() : this.session.keeps();
  });
  protected readonly mayMove = computed(() => {
    const run = this.run();
    return run !== undefined && !run.trial && run.state !== 'stopped' && this.session.keeps();
  });

  protected move(step: number, how: 'again' | 'without'): void {
    this.acts.run(this.api.call('moveSequenceRun', { id: Number(this.id()), body: { step, how } }));
  }

  protected stop(): void {
    this.acts.run(this.api.call('stopSequenceRun', { id: Number(this.id()) }), () => {
      this.stopping.set(false);
    });
  }
}
