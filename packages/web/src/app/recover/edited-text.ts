import { ChangeDetectionStrategy, Component, model, signal } from '@angular/core';
import { mostEdited } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { formatPipes } from '../ui/format-pipes';

/** A text that takes the place of what is stored. */
export interface Edited {
  readonly name: string;
  readonly text: string;
}

/** Chooses a file that was edited, to be brought back instead of what is stored. */
@Component({
  selector: 'lx-edited-text',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  template: `@if (edited(); as e) {
      From <b>{{ e.name }}</b> <span class="mute"> ({{ e.text.length | bytes }})</span> instead of what is stored, once it runs in a scratch
      server.
      <button type="button" class="plain" (click)="edited.set(undefined)">as stored</button>
    } @else {
      <label class="plain">
        Edited the text? Give it instead …
        <input type="file" class="visually-hidden" accept=".sql,text/plain" (change)="take($event)" />
      </label>
    }
    @if (problem()) {
      <span class="f" role="alert">{{ problem() }}</span>
    }`,
  styles: `
    label.plain {
      cursor: pointer;
      color: var(--lapis);
    }
    label.plain:focus-within {
      outline: 2px solid var(--lapis);
      outline-offset: 2px;
    }
  `,
})
export class EditedText {
  readonly edited = model<Edited>();
  protected readonly problem = signal('');

  protected take(event: Event): void {
    const box = event.target as HTMLInputElement;
    const [file] = box.files ?? [];
    box.value = '';
    if (file) void this.read(file);
  }

  private async read(file: File): Promise<void> {
    this.problem.set('');
    if (file.size > mostEdited) {
      this.problem.set(`${file.name} is larger than ${formatBytes(mostEdited)}.`);
      return;
    }
    try {
      const text = new TextDecoder('utf-8', { fatal: true }).decode(await file.arrayBuffer());
      this.edited.set({ name: file.name, text });
    } catch {
      this.problem.set(`${file.name} is not text in UTF-8.`);
    }
  }
}
