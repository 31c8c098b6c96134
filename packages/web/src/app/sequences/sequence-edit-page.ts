import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { Answered, SequenceBody, SequenceStep } from '@lithodex/contract';
import { countOf, formatDuration, formatFirst } from '@lithodex/core';
import { map } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Slot, type SlotOption } from '../ui/slot';
import { SequenceLanes } from './sequence-lanes';
import { canRise, expectedLanes, keyOf, restoreOf, withoutStep, withRisen, withStep, withWaiting } from './sequence-steps';

const minuteMs = 60_000;

/** Usual values, and the one that was chosen where it is none of them. */
const withOwn = <T>(usual: readonly T[], own: T): T[] => (usual.includes(own) ? [...usual] : [...usual, own]);

/** Puts restores in their order, and shows how that would go while one writes. */
@Component({
  selector: 'lx-sequence-edit-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, Slot, SequenceLanes],
  templateUrl: './sequence-edit-page.html',
  styleUrl: './sequences.scss',
})
export class SequenceEditPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  /** 'new' for one that is not there yet. */
  readonly id = input.required<string>();
  protected readonly name = signal('');
  protected readonly objective = signal<number | null>(null);
  protected readonly steps = signal<readonly SequenceStep[]>([]);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  private readonly result = toSignal(this.api.call('listSequences').pipe(outcome<Answered<'listSequences'>>()));
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly parts = computed(() => new Map((this.result()?.value?.parts ?? []).map((p) => [keyOf(p.restore), p])));
  protected readonly isNew = computed(() => this.id() === 'new');
  private readonly before = computed(() => this.result()?.value?.rows.find((r) => String(r.id) === this.id()));
  protected readonly missing = computed(() => !this.isNew() && this.result()?.value !== undefined && !this.before());
  protected readonly options = computed(() =>
    [...this.parts()].map(([value, p]): SlotOption<string> => ({ value, label: p.name, note: p.restore.by === 'standing' ? p.place : '' })),
  );
  protected readonly lanes = computed(() => expectedLanes(this.steps(), this.parts()));
  protected readonly objectives = computed(() =>
    withOwn([null, 5, 10, 15, 30, 60, 120, 240, 480, 1440], this.objective()).map((value): SlotOption<number | null> => ({
      value,
      label: value === null ? 'whenever it is' : `within ${formatDuration(value * minuteMs)}`,
    })),
  );
  protected readonly canRise = canRise;
  protected readonly keyOf = keyOf;

  /** What this comes to, in sentences. */
  protected readonly outlook = computed(() => {
    const ends = this.lanes().map((l) => l.endMs);
    const of = this.steps().map((s) => this.parts().get(keyOf(s.restore)));
    const unknown = of.flatMap((p) => (p?.takesMs === null ? [p.name] : []));
    const untried = of.flatMap((p) => (p && p.takesMs !== null && p.tried === null ? [p.name] : []));
    const wanted = this.objective();
    const whole = ends.length && ends.every((e) => e !== null) ? Math.max(0, ...ends) : null;
    return [
      ...(whole === null ? [] : [`All of it is back after about ${formatDuration(whole)}.`]),
      ...(unknown.length ? [`Nobody knows how long ${formatFirst([...new Set(unknown)], 3)} takes: try it by a drill.`] : []),
      ...(untried.length ? [`By measured rates only, as no drill came to it yet: ${formatFirst([...new Set(untried)], 3)}.`] : []),
      ...(whole !== null && wanted !== null && whole > wanted * minuteMs
        ? [`That is more than the ${formatDuration(wanted * minuteMs)} that are wanted.`]
        : []),
    ];
  });
  protected readonly cannot = computed(() =>
    this.steps().flatMap((s) => {
      const part = this.parts().get(keyOf(s.restore));
      if (!part) return ['A step is of something that is not there any more, or of which there is no point: a trial fails there.'];
      return part.cannot ? [`${part.name} can't be tried: ${part.cannot}`] : [];
    }),
  );
  protected readonly complete = computed(() => this.name().trim() !== '' && this.steps().length > 0);

  constructor() {
    effect(() => {
      const body = this.before()?.body;
      if (!body) return;
      untracked(() => {
        this.name.set(body.name);
        this.objective.set(body.objective);
        this.steps.set(body.steps);
      });
    });
  }

  protected waitsFor(own: number): SlotOption<number>[] {
    return withOwn([0, 1, 2, 5, 10, 15, 30, 60, 120], own).map((value) => ({
      value,
      label: value ? `${countOf(value, 'minute')} later` : 'at once',
    }));
  }

  protected ends({ after }: SequenceStep): string {
    if (!after.length) return '(none of them) is back,';
    return after.length === 1 ? 'is back,' : 'are back,';
  }

  protected place(step: SequenceStep): string {
    return this.parts().get(keyOf(step.restore))?.place ?? 'where it was';
  }

  protected add(key: string): void {
    this.steps.update((steps) => withStep(steps, restoreOf(key)));
  }

  protected pick(i: number, key: string): void {
    this.steps.update((steps) => steps.map((s, k) => (k === i ? { ...s, restore: restoreOf(key) } : s)));
  }

  protected wait(i: number, wait: number): void {
    this.steps.update((steps) => steps.map((s, k) => (k === i ? { ...s, wait } : s)));
  }

  protected waitFor(i: number, j: number): void {
    this.steps.update((steps) => withWaiting(steps, i, j));
  }

  protected rise(i: number): void {
    this.steps.update((steps) => withRisen(steps, i));
  }

  protected takeOut(i: number): void {
    this.steps.update((steps) => withoutStep(steps, i));
  }

  protected save(): void {
    if (!this.complete()) return;
    this.busy.set(true);
    this.problem.set('');
    const body: SequenceBody = { name: this.name().trim(), objective: this.objective(), steps: [...this.steps()] };
    const id = this.before()?.id;
    const call =
      id === undefined ? this.api.call('addSequence', { body }) : this.api.call('changeSequence', { id, body }).pipe(map(() => ({ id })));
    call.subscribe({
      next: (saved) => void this.router.navigate(['/recover/sequences'], { queryParams: { sequence: saved.id } }),
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
