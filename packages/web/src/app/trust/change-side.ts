import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { ChangedWorkload, PointChange } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { combineLatest, map, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';

const damageWords = { inPlace: 'turned random where it stands', twin: 'gone, with a random twin', gone: 'gone' } as const;

/** One point: why it is unusual, what it damaged, where from to bring it back, and what a person says of it. */
@Component({
  selector: 'lx-change-side',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, FormsModule, FormDialog, ...formatPipes],
  templateUrl: './change-side.html',
  styleUrl: './change-side.scss',
})
export class ChangeSide {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly pointId = input.required<string>();
  readonly row = input<ChangedWorkload>();
  readonly said = output();
  protected readonly acts = new Acts();
  private readonly result = toSignal(
    combineLatest([toObservable(this.pointId), this.acts.changed]).pipe(
      switchMap(([id]) =>
        this.api.call('pointChange', { id, query: { limit: 200 } }).pipe(
          outcome<PointChange>(),
          map((o) => ({ ...o, id })),
        ),
      ),
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly point = computed(() => {
    const value = this.result()?.value;
    return value?.id === this.pointId() ? value : undefined;
  });
  protected readonly most = computed(() => Math.max(1, ...(this.point()?.damage?.folders ?? []).map((f) => f.inPlace + f.twin + f.gone)));
  protected readonly damageWords = damageWords;
  protected readonly asking = signal<'usual' | 'damage' | null>(null);
  protected readonly reason = signal('');
  protected readonly items = signal(false);

  /** Tried on what was judged already: how many points would have been held with another score. */
  protected readonly trying = signal<number | null>(null);
  protected readonly holdFrom = computed(() => this.trying() ?? this.row()?.holdFrom ?? 60);
  protected readonly wouldHold = computed(() => {
    const row = this.row();
    if (!row) return '';
    const held = row.points.filter((p) => p.score >= this.holdFrom()).length;
    return `${held ? countOf(held, 'point') : 'no point'} of ${row.points.length} would have been held`;
  });

  protected ask(as: 'usual' | 'damage'): void {
    this.reason.set('');
    this.acts.problem.set('');
    this.asking.set(as);
  }

  protected say(): void {
    const as = this.asking();
    if (!as) return;
    this.acts.run(this.api.call('sayOfPoint', { id: this.pointId(), body: { as, reason: this.reason() } }), () => {
      this.asking.set(null);
      this.said.emit();
    });
  }

  protected hold(): void {
    const id = this.row()?.id;
    if (id === undefined) return;
    this.acts.run(this.api.call('setHoldFrom', { id, body: { holdFrom: this.holdFrom() } }), () => {
      this.trying.set(null);
      this.said.emit();
    });
  }
}
