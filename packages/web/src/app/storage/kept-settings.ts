import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { settingKinds, type SettingStep } from '@lithodex/contract';
import { countOf, formatList } from '@lithodex/core';
import { switchMap, type Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

const words: Readonly<Record<SettingStep['effect'], string>> = { add: 'added', change: 'changed', same: 'same', leave: 'left' };
const order: readonly SettingStep['effect'][] = ['add', 'change', 'leave'];
const plural: Partial<Record<SettingStep['kind'], string>> = { policy: 'policies', person: 'people' };

/** The settings kept on a target, and what taking them over would do here. */
@Component({
  selector: 'lx-kept-settings',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [StateMark, ...formatPipes],
  template: `
    @if (result()?.failure; as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    } @else if (result()?.value; as kept) {
      @if (kept.at === null) {
        <p class="m-0">No settings are kept there yet. They are written within a minute after a change.</p>
      } @else {
        <p class="m-0">
          Written {{ kept.at | moment }}, sealed with the key of the store; passwords, and what opens other targets, are not among them.
          {{ consequence() }}
        </p>
        @if (steps().length) {
          <div class="steps">
            <table class="list">
              <tbody>
                @for (s of steps(); track $index) {
                  <tr>
                    <td>{{ s.kind }}</td>
                    <td class="cut" [title]="s.name">
                      <b>{{ s.name }}</b>
                    </td>
                    <td class="nowrap">
                      @if (s.effect === 'leave') {
                        <lx-mark state="look" />
                      }
                      {{ word[s.effect] }}
                    </td>
                    <td class="mute small">{{ s.why }}</td>
                  </tr>
                }
              </tbody>
            </table>
          </div>
        }
      }
      <p class="m-0 mute small">{{ same() }}</p>
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div class="row-line">
        @if (acts()) {
          <button type="button" class="act go" (click)="take(kept.at!)">Take them over</button>
        }
        @if (held()) {
          <button type="button" class="act" (click)="leave()">Leave them, keep those of this installation there</button>
        }
      </div>
    } @else {
      <div class="skeleton" style="height: 160px"></div>
    }
  `,
  styles: `
    :host {
      display: flex;
      flex-direction: column;
      gap: 10px;
    }
    .steps {
      max-height: 320px;
      overflow: auto;
    }
    .cut {
      max-width: 170px;
    }
  `,
})
export class KeptSettings {
  private readonly api = inject(Api);
  readonly id = input.required<string>();
  /** Nobody has said yet what becomes of them. */
  readonly held = input(false);
  readonly done = output();
  protected readonly word = words;
  protected readonly problem = signal('');
  protected readonly result = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('keptSettings', { id }).pipe(outcome()))),
  );
  private readonly all = computed(() => this.result()?.value?.steps ?? []);
  protected readonly same = computed(() => {
    const kinds = settingKinds.map((kind) => ({ kind, n: this.all().filter((s) => s.effect === 'same' && s.kind === kind).length }));
    const counted = kinds.filter((k) => k.n).map(({ kind, n }) => countOf(n, kind, plural[kind]));
    return counted.length ? `As they are here: ${formatList(counted)}.` : '';
  });
  protected readonly steps = computed(() =>
    this.all()
      .filter((s) => s.effect !== 'same')
      .sort((a, b) => order.indexOf(a.effect) - order.indexOf(b.effect)),
  );
  protected readonly acts = computed(() => this.steps().filter((s) => s.effect === 'add' || s.effect === 'change').length);
  protected readonly consequence = computed(() => {
    const left = this.steps().filter((s) => s.effect === 'leave').length;
    if (!this.acts()) return `Taking them over would change nothing${left ? `; ${countOf(left, 'thing')} would need a person` : ''}.`;
    return `Taking them over adds or changes ${countOf(this.acts(), 'thing')}${left ? ` and leaves ${left} for a person` : ''}; nothing is removed.`;
  });

  protected take(at: number): void {
    this.after(this.api.call('takeSettings', { id: this.id(), body: { at } }));
  }

  protected leave(): void {
    this.after(this.api.call('leaveSettings', { id: this.id() }));
  }

  private after(call: Observable<unknown>): void {
    this.problem.set('');
    call.subscribe({
      next: () => {
        this.done.emit();
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
