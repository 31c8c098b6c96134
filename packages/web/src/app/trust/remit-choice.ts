import { ChangeDetectionStrategy, Component, computed, inject, model, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';

const mostShown = 60;

/** Which workloads a clerk may act for. */
@Component({
  selector: 'lx-remit-choice',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<fieldset>
    <legend>May act for {{ chosen().length }} workloads</legend>
    <input
      #box
      class="field"
      placeholder="Narrow by name"
      aria-label="Narrow workloads by name"
      [value]="text()"
      (input)="text.set(box.value)"
    />
    <div class="names">
      @for (w of shown(); track w.id) {
        <label><input type="checkbox" [checked]="chosen().includes(w.id)" (change)="toggle(w.id)" /> {{ w.name }}</label>
      }
      @if (left() > 0) {
        <span class="mute small">and {{ left() }} more: narrow them by name</span>
      }
    </div>
  </fieldset>`,
  styles:
    'fieldset { border: 0; padding: 0; margin: 0; } legend { font-size: 13px; font-weight: 600; } .names { max-height: 180px; overflow: auto; display: grid; grid-template-columns: repeat(auto-fill, minmax(150px, 1fr)); gap: 2px 10px; margin-top: 6px; } label { font-size: 12.5px; display: flex; gap: 5px; }',
})
export class RemitChoice {
  readonly chosen = model.required<readonly number[]>();
  protected readonly text = signal('');
  private readonly values = toSignal(inject(Api).call('estateValues').pipe(outcome()));
  private readonly fitting = computed(() => {
    const text = this.text().trim().toLowerCase();
    const all = this.values()?.value?.workloads ?? [];
    return all.filter((w) => !text || w.name.toLowerCase().includes(text));
  });
  protected readonly shown = computed(() => this.fitting().slice(0, mostShown));
  protected readonly left = computed(() => this.fitting().length - this.shown().length);

  protected toggle(id: number): void {
    this.chosen.update((list) => (list.includes(id) ? list.filter((c) => c !== id) : [...list, id]));
  }
}
