import { ChangeDetectionStrategy, Component, output } from '@angular/core';
import { FormDialog } from '../ui/form-dialog';

const keys: readonly (readonly [string, string])[] = [
  ['Ctrl K', 'find anything'],
  ['g then w e p r c s o t', 'go to Watch, Estate, Policies, Runs, Recover, Storage, Reports, Trust'],
  ['/', 'filter the list'],
  ['j k', 'next, previous row'],
  ['Enter', 'open'],
  ['Esc', 'back, close'],
  ['x', 'tick the row'],
  ['p', 'add what is ticked to the pick list'],
  [', .', 'step the moment to the point before, after'],
  ['?', 'this list'],
];

@Component({
  selector: 'lx-keyboard-help',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormDialog],
  template: `<lx-form-dialog heading="Keyboard" (closed)="closed.emit()">
    <dl>
      @for (key of keys; track key[0]) {
        <dt>{{ key[0] }}</dt>
        <dd>{{ key[1] }}</dd>
      }
    </dl>
    <p class="mute small m-0">Single keys can be switched off under your initials.</p>
  </lx-form-dialog>`,
  styles:
    'dl { display: grid; grid-template-columns: 170px 1fr; gap: 6px 12px; margin: 0; } dt { font: 12px var(--mono); } dd { margin: 0; }',
})
export class KeyboardHelp {
  readonly closed = output();
  protected readonly keys = keys;
}
