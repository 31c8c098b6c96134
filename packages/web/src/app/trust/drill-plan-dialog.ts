import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, output } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { DrillCheck, DrilledWorkload } from '@lithodex/contract';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { FormDialog } from '../ui/form-dialog';
import { checkNames, checksOf, emptyCheck, roomWords } from './drill-words';

const units = [
  { name: 'minutes', seconds: 60 },
  { name: 'hours', seconds: 3600 },
] as const;

/** What is looked at in drills of one workload, within what time it has to be usable, and how much it matters. */
@Component({
  selector: 'lx-drill-plan-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog],
  templateUrl: './drill-plan-dialog.html',
  styleUrl: './drill-plan-dialog.scss',
})
export class DrillPlanDialog {
  private readonly api = inject(Api);
  readonly workload = input.required<DrilledWorkload>();
  readonly closed = output();
  readonly changed = output();
  protected readonly acts = new Acts();
  protected readonly units = units;
  protected readonly names = checkNames;
  protected readonly own = linkedSignal(() => this.workload().plan);
  protected readonly room = computed(() => roomWords[this.workload().kind]);
  protected readonly kinds = computed(() => checksOf(this.workload().kind));
  protected readonly isMachine = computed(() => this.workload().kind === 'machine');
  protected readonly unit = linkedSignal<60 | 3600>(() => {
    const { objective } = this.workload().plan;
    return objective !== null && objective % 3600 === 0 ? 3600 : 60;
  });
  protected readonly within = linkedSignal<number | null>(() => {
    const { objective } = this.workload().plan;
    return objective === null ? null : Math.max(1, Math.round(objective / this.unit()));
  });

  protected add(check: DrillCheck['check']): void {
    this.own.update((plan) => ({ ...plan, checks: [...plan.checks, emptyCheck(check)] }));
  }

  protected set(at: number, change: object): void {
    this.own.update((plan) => ({ ...plan, checks: plan.checks.map((c, i) => (i === at ? { ...c, ...change } : c)) }));
  }

  protected drop(at: number): void {
    this.own.update((plan) => ({ ...plan, checks: plan.checks.filter((_, i) => i !== at) }));
  }

  protected weigh(weight: number): void {
    this.own.update((plan) => ({ ...plan, weight }));
  }

  protected keep(): void {
    const within = this.within();
    const body = { ...this.own(), objective: within ? within * this.unit() : null };
    this.acts.run(this.api.call('changeDrillPlan', { id: this.workload().id, body }), () => {
      this.changed.emit();
      this.closed.emit();
    });
  }
}
