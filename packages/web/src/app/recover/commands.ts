import { ChangeDetectionStrategy, Component, input, signal } from '@angular/core';

/** Ready commands, each to be copied. */
@Component({
  selector: 'lx-commands',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `@for (command of commands(); track command.what) {
    <div class="mute small">{{ command.what }}</div>
    <div class="row">
      <code tabindex="0">{{ command.text }}</code>
      <button type="button" class="act sm" [attr.aria-label]="'Copy: ' + command.what" (click)="copy(command.text)">
        {{ copied() === command.text ? 'Copied' : 'Copy' }}
      </button>
    </div>
  }`,
  styles: `
    .row {
      display: grid;
      grid-template-columns: minmax(0, 1fr) auto;
      gap: 10px;
      align-items: start;
      margin: 2px 0 12px;
    }
    code {
      padding: 6px 8px;
      background: var(--sheet-2);
      border-radius: 5px;
      font: 12px/1.5 var(--mono);
      color: var(--ink);
      overflow-wrap: anywhere;
      white-space: pre-wrap;
    }
  `,
})
export class Commands {
  readonly commands = input.required<readonly { readonly what: string; readonly text: string }[]>();
  protected readonly copied = signal('');

  protected copy(text: string): void {
    void navigator.clipboard.writeText(text).then(() => {
      this.copied.set(text);
    });
  }
}
