import { ChangeDetectionStrategy, Component, inject, input, linkedSignal, output } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { ScanSettings } from '@lithodex/contract';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { FormDialog } from '../ui/form-dialog';

/** When points are scanned by themselves, and for what. */
@Component({
  selector: 'lx-scan-settings-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog],
  template: `<lx-form-dialog heading="When to scan" (closed)="closed.emit()">
    <form class="lines" (ngSubmit)="keep()">
      <p>
        Points are scanned
        <select class="form-select" name="when" aria-label="When" [ngModel]="own().when" (ngModelChange)="set({ when: $event })">
          <option value="never">when somebody asks for it</option>
          <option value="unusual">when their change is unusual</option>
          <option value="always">each, once it stands</option>
        </select>
        @if (own().when === 'unusual') {
          from
          <input
            class="form-control score"
            type="number"
            name="from"
            min="1"
            max="100"
            aria-label="Score"
            [ngModel]="own().fromScore"
            (ngModelChange)="set({ fromScore: +$event })"
          />
          of 100 on
        }
      </p>
      @if (own().when !== 'never') {
        <p>
          When rules are newer,
          <select class="form-select" name="again" aria-label="Again" [ngModel]="own().again" (ngModelChange)="set({ again: $event })">
            <option value="newest">the newest point of each workload is scanned again</option>
            <option value="all">all points are scanned again, each content once</option>
          </select>
        </p>
      }
      <label class="check"
        ><input type="checkbox" name="sensitive" [ngModel]="own().sensitive" (ngModelChange)="set({ sensitive: $event })" /> Sensitive data
        is looked for too: identity numbers, cards, accounts, health, addresses, credentials</label
      >
      <label
        >A scanner of the movers, as their mover.json names it
        <input
          class="form-control"
          name="scanner"
          maxlength="60"
          placeholder="none"
          [ngModel]="own().scanner"
          (ngModelChange)="set({ scanner: $event })"
      /></label>
      <p class="small mute">
        Points that stand already are scanned too. Only backups are read, by the movers that keep them. What did not change since the same
        rules is not read again.
      </p>
      @if (acts.problem(); as p) {
        <div class="problem" role="alert">{{ p }}</div>
      }
      <button type="submit" class="act go">Scan so from now on</button>
    </form>
  </lx-form-dialog>`,
  styles: `
    .lines {
      display: flex;
      flex-direction: column;
      gap: 10px;
      align-items: flex-start;
    }
    p {
      margin: 0;
    }
    select {
      display: inline-block;
      width: auto;
    }
    .score {
      display: inline-block;
      width: 76px;
    }
    .check {
      display: flex;
      gap: 8px;
      align-items: baseline;
    }
  `,
})
export class ScanSettingsDialog {
  private readonly api = inject(Api);
  readonly settings = input.required<ScanSettings>();
  readonly closed = output();
  readonly changed = output();
  protected readonly acts = new Acts();
  protected readonly own = linkedSignal(() => this.settings());

  protected set(change: Partial<ScanSettings>): void {
    this.own.update((s) => ({ ...s, ...change }));
  }

  protected keep(): void {
    const body = { ...this.own(), scanner: this.own().scanner.trim() };
    this.acts.run(this.api.call('changeScanSettings', { body }), () => {
      this.changed.emit();
      this.closed.emit();
    });
  }
}
