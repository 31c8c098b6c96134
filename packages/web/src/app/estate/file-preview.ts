import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { FilePreview } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { of, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { ItemViewPart } from './item-view';
import { SendItem } from './send-item';

/** The front of a file of a point, shown when it is asked for. Nothing of it runs: text is text, and images are drawn. */
@Component({
  selector: 'lx-file-preview',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ItemViewPart, SendItem, ...formatPipes],
  template: `@if (session.keeps() || reads()) {
    @if (!asked()) {
      <button type="button" class="act sm" (click)="asked.set(true)">Look into it</button>
    } @else if (failure(); as f) {
      <div class="f small" role="alert">{{ f.message }}</div>
    } @else if (shown(); as s) {
      @switch (s.as) {
        @case ('message') {
          <lx-item-view [view]="s" [pointId]="pointId()" [path]="path()" />
        }
        @case ('fields') {
          <lx-item-view [view]="s" [pointId]="pointId()" [path]="path()" />
        }
        @case ('chat') {
          <lx-item-view [view]="s" [pointId]="pointId()" [path]="path()" />
        }
        @case ('text') {
          <pre tabindex="0" aria-label="Text of the file">{{ s.text || 'The file is empty.' }}</pre>
        }
        @case ('image') {
          <img [src]="image()" alt="Picture in the file" />
        }
        @case ('bytes') {
          <pre tabindex="0" aria-label="First bytes of the file">{{
            s.rows.join(
              '
'
            )
          }}</pre>
        }
      }
      <div class="small mute">{{ about(s) }}; that you looked is in the audit trail</div>
      @if (session.keeps()) {
        <lx-send-item [pointId]="pointId()" [path]="path()" />
      }
    } @else {
      <div class="skeleton" style="height: 120px"></div>
    }
  }`,
  styles: `
    :host {
      display: block;
      margin-top: 10px;
    }
    pre {
      margin: 0;
      padding: 8px;
      max-height: 42vh;
      overflow: auto;
      background: var(--sheet-2);
      border-radius: 5px;
      font: 12px/1.45 var(--mono);
      white-space: pre-wrap;
      overflow-wrap: anywhere;
    }
    img {
      max-width: 100%;
      max-height: 42vh;
    }
  `,
})
export class FilePreviewPart {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly pointId = input.required<string>();
  readonly path = input.required<string>();
  /** Whoever is here may read it without keeping things: an item of somebody they help. */
  readonly reads = input(false);
  protected about(s: FilePreview): string {
    if (s.as === 'message' || s.as === 'fields' || s.as === 'chat') return 'as it is stored';
    if (s.as === 'text' && s.of) return `the text of a ${s.of} of ${formatBytes(s.size)}, nothing else of it`;
    const why = s.as === 'bytes' && s.why ? `: ${s.why}` : '';
    return s.whole && s.as !== 'bytes' ? 'all of it' : `the front of ${formatBytes(s.size)}${why}`;
  }

  private readonly place = computed(() => ({ id: this.pointId(), path: this.path() }));
  protected readonly asked = linkedSignal({ source: this.place, computation: () => false });
  private readonly key = computed(() => (this.asked() ? this.place() : null));
  private readonly result = toSignal(
    toObservable(this.key).pipe(
      switchMap((key) =>
        key
          ? this.api.call('preview', { id: key.id, query: { path: key.path } }).pipe(outcome<FilePreview>())
          : of<Outcome<FilePreview>>({}),
      ),
    ),
  );
  protected readonly shown = computed(() => this.result()?.value);
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly image = computed(() => {
    const shown = this.shown();
    return shown?.as === 'image' ? `data:${shown.type};base64,${shown.data}` : '';
  });
}
