import { Directive, inject, input, model, output } from '@angular/core';
import { Preferences } from '../data/preferences';

/** Moves through a list from anywhere on the page: j and k step, Enter opens, every other key is handed on. */
@Directive({ selector: '[lxListKeys]', host: { '(document:keydown)': 'onKey($event)' } })
export class ListKeys {
  private readonly preferences = inject(Preferences);
  /** Rows in the list. */
  readonly lxListKeys = input.required<number>();
  /** Index of the row the keys stand on. */
  readonly at = model.required<number>();
  /** While true, for instance below an open dialog, no key counts. */
  readonly asleep = input(false);
  readonly opened = output<number>();
  readonly pressed = output<KeyboardEvent>();

  protected onKey(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    if (this.asleep() || target.matches('input:not([type=checkbox]), textarea, select') || event.ctrlKey || event.metaKey || event.altKey)
      return;
    const rows = this.lxListKeys();
    if (event.key.length === 1 && !this.preferences.singleKeys()) return;
    if (event.key === 'j') this.at.update((i) => Math.max(0, Math.min(rows - 1, i + 1)));
    else if (event.key === 'k') this.at.update((i) => Math.max(0, i - 1));
    else if (event.key === 'Enter') {
      if (target.tagName === 'BODY' && this.at() < rows) this.opened.emit(this.at());
    } else this.pressed.emit(event);
  }
}
