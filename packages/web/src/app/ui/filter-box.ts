import { ChangeDetectionStrategy, Component, input, output } from '@angular/core';

/** The filter of a list: "/" puts the cursor here, Esc leaves it. */
@Component({
  selector: 'lx-filter',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<input
    #box
    data-filter
    class="field"
    [placeholder]="hint()"
    [attr.aria-label]="label()"
    [value]="text() ?? ''"
    (input)="typed.emit(box.value || null)"
    (keydown.escape)="box.blur()"
  />`,
  styles: ':host { display: contents; } input { width: 220px; }',
})
export class FilterBox {
  readonly text = input<string>();
  readonly hint = input('Filter');
  readonly label = input('Filter');
  /** The text, or null when it was emptied. */
  readonly typed = output<string | null>();
}
