import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { CopyRule, Target } from '@lithodex/contract';
import { Slot, type SlotOption } from '../ui/slot';
import { choiceOf, keepChoices, keepOfChoice, keepTyped, withLongTerm } from './keep-choice';
import { LockRule } from './lock-rule';
import { LongTermRule } from './long-term-rule';
import { keepWords } from './sentence';

/** The copies of a policy, a sentence each. */
@Component({
  selector: 'lx-copy-rules',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot, LongTermRule, LockRule],
  template: `
    @for (rule of rules(); track rule.targetId; let i = $index) {
      <div class="sentence">
        Copy
        <lx-slot
          label="copy rhythm"
          [options]="rhythms"
          [value]="rule.rhythm"
          (valueChange)="set(i, { rhythm: $event })"
          [disabled]="disabled()"
        />
        to
        <lx-slot
          label="copy target"
          [options]="choicesFor(rule.targetId)"
          [value]="rule.targetId"
          (valueChange)="set(i, { targetId: $event })"
          [disabled]="disabled()"
        />, keep it {{ rule.keep.by === 'hand' ? '' : 'there for' }}
        <lx-slot
          label="copy retention"
          [options]="keeps"
          [value]="choiceOf(rule.keep)"
          [text]="keepWords(rule.keep)"
          (valueChange)="keepFor(i, keepOfChoice($event))"
          free="or type 45 days, 12 points"
          (entered)="typed(i, $event)"
          [disabled]="disabled()"
        />.
        <lx-long-term-rule [keep]="rule.keep" [disabled]="disabled()" (changed)="set(i, { keep: $event })" />
        <lx-lock-rule
          [days]="rule.lockDays"
          [target]="targetOf(rule.targetId)"
          [disabled]="disabled()"
          (changed)="set(i, { lockDays: $event })"
        />
        @if (!disabled()) {
          <button type="button" class="act sm" (click)="drop(i)">Without this copy</button>
        }
      </div>
    } @empty {
      @if (!brief()) {
        <div class="sentence mute">Points stand on one target only. A second copy elsewhere survives the loss of the first.</div>
      }
    }
    @if (!disabled() && free().length) {
      <button type="button" class="act sm" (click)="add()">Copy to another target</button>
    } @else if (!rules().length && !targets().length) {
      <span class="mute small">There is no other target yet; add one under Storage.</span>
    }
  `,
  styles:
    ':host { display: flex; flex-direction: column; gap: 8px; align-items: flex-start; } .sentence { align-self: stretch; } .sentence button { margin-left: 6px; }',
})
export class CopyRules {
  readonly rules = input.required<readonly CopyRule[]>();
  /** Targets that points may be copied to. */
  readonly targets = input.required<readonly Target[]>();
  readonly disabled = input(false);
  /** Says nothing where there are no copies. */
  readonly brief = input(false);
  readonly changed = output<CopyRule[]>();

  protected readonly rhythms: SlotOption<CopyRule['rhythm']>[] = [
    { value: 'every', label: 'every new point' },
    { value: 'day', label: 'the newest point once a day' },
    { value: 'week', label: 'the newest point once a week' },
  ];
  protected readonly keeps = keepChoices;
  protected readonly keepWords = keepWords;
  protected readonly choiceOf = choiceOf;
  protected readonly keepOfChoice = keepOfChoice;
  protected readonly free = computed(() => this.targets().filter((t) => !this.rules().some((r) => r.targetId === t.id)));

  protected choicesFor(own: string): SlotOption<string>[] {
    return this.targets()
      .filter((t) => t.id === own || this.free().includes(t))
      .map((t) => ({ value: t.id, label: t.name }));
  }

  protected targetOf(id: string): Target | undefined {
    return this.targets().find((t) => t.id === id);
  }

  protected set(at: number, change: Partial<CopyRule>): void {
    this.changed.emit(this.rules().map((r, i) => (i === at ? { ...r, ...change } : r)));
  }

  protected keepFor(at: number, keep: CopyRule['keep']): void {
    this.set(at, { keep: withLongTerm(keep, this.rules()[at]?.keep) });
  }

  protected typed(at: number, text: string): void {
    const keep = keepTyped(text);
    if (keep) this.keepFor(at, keep);
  }

  protected drop(at: number): void {
    this.changed.emit(this.rules().filter((_r, i) => i !== at));
  }

  protected add(): void {
    this.changed.emit([...this.rules(), { targetId: this.free()[0]!.id, rhythm: 'every', keep: { by: 'days', days: 30 }, lockDays: null }]);
  }
}
