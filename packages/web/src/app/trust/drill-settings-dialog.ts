import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, output } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { DrillSettings } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { FormDialog } from '../ui/form-dialog';

/** How many workloads are drilled by themselves, and when. */
@Component({
  selector: 'lx-drill-settings-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog],
  template: `<lx-form-dialog heading="The rota of drills" (closed)="closed.emit()">
    <form class="lines" (ngSubmit)="keep()">
      <label class="check"
        ><input type="checkbox" name="on" [ngModel]="own().on" (ngModelChange)="set({ on: $event })" /> Workloads are drilled by
        themselves</label
      >
      <p>
        At
        <input
          class="form-control time"
          name="at"
          type="time"
          aria-label="Time"
          [ngModel]="own().at"
          (ngModelChange)="set({ at: $event })"
        />
        of each night,
        <input
          class="form-control few"
          type="number"
          name="nightly"
          min="1"
          max="100"
          aria-label="Workloads a night"
          [ngModel]="own().nightly"
          (ngModelChange)="set({ nightly: +$event })"
        />
        of them. A drill counts for
        <input
          class="form-control few"
          type="number"
          name="within"
          min="1"
          max="3650"
          aria-label="Days that a drill counts"
          [ngModel]="own().within"
          (ngModelChange)="set({ within: +$event })"
        />
        days.
      </p>
      <p class="small mute">{{ round() }}</p>
      @if (acts.problem(); as p) {
        <div class="problem" role="alert">{{ p }}</div>
      }
      <button type="submit" class="act go">{{ own().on ? 'Drill so from now on' : 'Drill only when asked' }}</button>
    </form>
  </lx-form-dialog>`,
  styles: `
    .lines {
      display: flex;
      flex-direction: column;
      gap: 12px;
      align-items: flex-start;
    }
    p {
      margin: 0;
      line-height: 2.4;
    }
    p.small {
      line-height: 1.4;
    }
    .time,
    .few {
      display: inline-block;
      width: 118px;
    }
    .few {
      width: 84px;
    }
    .check {
      display: flex;
      gap: 8px;
      align-items: baseline;
    }
  `,
})
export class DrillSettingsDialog {
  private readonly api = inject(Api);
  readonly settings = input.required<DrillSettings>();
  readonly workloads = input.required<number>();
  readonly closed = output();
  readonly changed = output();
  protected readonly acts = new Acts();
  protected readonly own = linkedSignal(() => this.settings());
  protected readonly round = computed(() => {
    const { nightly, within } = this.own();
    const nights = Math.ceil(this.workloads() / Math.max(1, nightly));
    const all = `All ${countOf(this.workloads(), 'workload')} have had their turn after ${countOf(nights, 'night')}`;
    const fits = nights <= within ? '' : `, longer than a drill counts: take ${Math.ceil(this.workloads() / within)} a night`;
    return `${all}${fits}. What was never drilled goes first, then what is longest ago; what changed much, matters more, or did not pass goes sooner.`;
  });

  protected set(change: Partial<DrillSettings>): void {
    this.own.update((s) => ({ ...s, ...change }));
  }

  protected keep(): void {
    this.acts.run(this.api.call('changeDrillSettings', { body: this.own() }), () => {
      this.changed.emit();
      this.closed.emit();
    });
  }
}
