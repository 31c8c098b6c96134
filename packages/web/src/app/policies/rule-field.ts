import { ChangeDetectionStrategy, Component, computed, input, linkedSignal, output } from '@angular/core';
import { NgbTypeahead } from '@ng-bootstrap/ng-bootstrap/typeahead';
import { parseRule, ruleCompletions, RuleError, type RuleField as Field } from '@lithodex/core';
import { map, type Observable } from 'rxjs';

let ids = 0;

/** The text of a selection rule, completed while it is typed, with what is wrong with it said below. */
@Component({
  selector: 'lx-rule-field',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [NgbTypeahead],
  template: `<label [for]="id"
      >{{ label() }}
      <small class="mute">{{ hint() }}</small>
    </label>
    <input
      #box
      [id]="id"
      class="field num"
      autocomplete="off"
      spellcheck="false"
      [placeholder]="placeholder()"
      [value]="text()"
      [disabled]="disabled()"
      [ngbTypeahead]="complete"
      [focusFirst]="false"
      [resultFormatter]="lastOf"
      (selectItem)="take($event.item)"
      (input)="text.set(box.value)"
      (change)="take(box.value)"
      [attr.aria-invalid]="wrong() !== ''"
      [attr.aria-describedby]="id + '-wrong'"
    />
    <small [id]="id + '-wrong'" class="w" role="status">{{ wrong() }}</small>`,
  styles: `
    :host {
      display: flex;
      flex-direction: column;
      gap: 4px;
      font-size: 13px;
    }
  `,
})
export class RuleField {
  readonly label = input.required<string>();
  readonly hint = input('');
  readonly placeholder = input('');
  readonly rule = input.required<string>();
  /** Values there are, for completion. */
  readonly known = input.required<Readonly<Record<Field, readonly string[]>>>();
  readonly disabled = input(false);
  readonly changed = output<string>();

  protected readonly id = `rule-${++ids}`;
  /** What is typed, until it is taken. */
  protected readonly text = linkedSignal<string, string>({
    source: this.rule,
    // a space typed last is where the next word goes
    computation: (rule, before) => (before?.value.trim() === rule ? before.value : rule),
  });
  protected readonly wrong = computed(() => {
    const text = this.text().trim();
    if (!text) return '';
    try {
      parseRule(text);
      return '';
    } catch (error) {
      return error instanceof RuleError ? error.message : String(error);
    }
  });
  protected readonly complete = (typed: Observable<string>) => typed.pipe(map((text) => ruleCompletions(text, this.known()).slice(0, 12)));
  protected readonly lastOf = (whole: string) => /("(?:[^"\\]|\\.)*"|[^\s"]+)\s*$/.exec(whole)?.[1] ?? whole;

  /** Takes what can be read; the rest stays where it was typed. */
  protected take(text: string): void {
    this.text.set(text);
    if (!this.wrong() && text.trim() !== this.rule()) this.changed.emit(text.trim());
  }
}
