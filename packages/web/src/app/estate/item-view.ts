import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { DomSanitizer, type SafeHtml } from '@angular/platform-browser';
import type { FilePreview } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { cleanPage } from './message-frame';

/** A message, an appointment, a contact or a conversation as it is read. Nothing of it runs, and nothing is fetched. */
@Component({
  selector: 'lx-item-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  template: `@switch (view().as) {
    @case ('message') {
      @if (message(); as m) {
        <dl class="small head">
          <dt>Subject</dt>
          <dd>
            <b>{{ m.subject || 'no subject' }}</b>
          </dd>
          <dt>From</dt>
          <dd>{{ m.from }}</dd>
          <dt>To</dt>
          <dd>{{ m.to }}</dd>
          @if (m.cc) {
            <dt>Copy</dt>
            <dd>{{ m.cc }}</dd>
          }
          @if (m.date !== null) {
            <dt>Sent</dt>
            <dd>{{ m.date | moment }}</dd>
          }
        </dl>
        @if (page(); as html) {
          <iframe sandbox="" referrerpolicy="no-referrer" title="The page of the message" [srcdoc]="html"></iframe>
        } @else if (!m.html) {
          <pre tabindex="0" aria-label="Text of the message">{{ m.text || 'The message has no text.' }}</pre>
        }
        @if (m.cut) {
          <div class="small w">It goes on: this is its beginning.</div>
        }
        @if (m.attachments.length) {
          <ul class="small">
            @for (a of m.attachments; track a.no) {
              <li>
                <span class="grow cut" [title]="a.name">{{ a.name }}</span> <span class="num mute">{{ a.size | bytes }}</span>
                @if (session.keeps()) {
                  <button type="button" class="plain" [disabled]="saving() === a.no" (click)="save(a.no)">save</button>
                }
              </li>
            }
          </ul>
        }
        @if (problem()) {
          <div class="f small" role="alert">{{ problem() }}</div>
        }
        <details>
          <summary class="small">{{ m.headers.length + m.moreHeaders | count: 'header' }}</summary>
          <pre tabindex="0" aria-label="Headers">{{ headers() }}</pre>
        </details>
      }
    }
    @case ('fields') {
      @if (fields(); as f) {
        <dl class="small head">
          @for (row of f.rows; track $index) {
            <dt>{{ row.label }}</dt>
            <dd>{{ row.value }}</dd>
          }
        </dl>
      }
    }
    @case ('chat') {
      @if (chat(); as c) {
        <ol class="chat small" tabindex="0" aria-label="Conversation">
          @for (line of c.lines; track $index) {
            <li>
              <span class="num mute">{{ line.at | moment }}</span> <b>{{ line.who }}</b> {{ line.text }}
            </li>
          }
        </ol>
        @if (c.more) {
          <div class="small mute">and {{ c.more | count: 'line' }} more</div>
        }
      }
    }
  }`,
  styles: `
    :host {
      display: flex;
      flex-direction: column;
      gap: 8px;
    }
    .head {
      display: grid;
      grid-template-columns: 84px minmax(0, 1fr);
      gap: 3px 10px;
      margin: 0;
    }
    dt {
      font-weight: 400;
      color: var(--ink-2);
    }
    dd {
      margin: 0;
      overflow-wrap: anywhere;
    }
    iframe {
      width: 100%;
      height: 46vh;
      border: 1px solid var(--line);
      border-radius: 5px;
      background: #fff;
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
    ul,
    .chat {
      list-style: none;
      margin: 0;
      padding: 0;
    }
    li {
      display: flex;
      gap: 8px;
    }
    .chat {
      max-height: 46vh;
      overflow: auto;
    }
  `,
})
export class ItemViewPart {
  private readonly api = inject(Api);
  private readonly sanitizer = inject(DomSanitizer);
  protected readonly session = inject(Session);
  readonly view = input.required<Extract<FilePreview, { as: 'message' | 'fields' | 'chat' }>>();
  readonly pointId = input.required<string>();
  readonly path = input.required<string>();
  protected readonly page = signal<SafeHtml | null>(null);
  protected readonly saving = signal<number | null>(null);
  protected readonly problem = signal('');
  protected readonly message = computed(() => {
    const view = this.view();
    return view.as === 'message' ? view : null;
  });
  protected readonly fields = computed(() => {
    const view = this.view();
    return view.as === 'fields' ? view : null;
  });
  protected readonly chat = computed(() => {
    const view = this.view();
    return view.as === 'chat' ? view : null;
  });
  protected readonly headers = computed(() => (this.message()?.headers ?? []).map((h) => `${h.name}: ${h.value}`).join('\n'));

  constructor() {
    effect(() => {
      const html = this.message()?.html;
      this.page.set(null);
      if (!html) return;
      void cleanPage(html).then((clean) => {
        // it was cleaned, and stands in a frame where nothing runs
        if (this.message()?.html === html) this.page.set(this.sanitizer.bypassSecurityTrustHtml(clean));
      });
    });
  }

  protected save(no: number): void {
    this.saving.set(no);
    this.problem.set('');
    this.api.call('attachment', { id: this.pointId(), query: { path: this.path(), no } }).subscribe({
      next: ({ name, data }) => {
        this.saving.set(null);
        const bytes = Uint8Array.from(atob(data), (c) => c.charCodeAt(0));
        // never opened by what it says it is
        const url = URL.createObjectURL(new Blob([bytes], { type: 'application/octet-stream' }));
        const link = document.createElement('a');
        link.href = url;
        link.download = name || `attachment ${no + 1}`;
        link.click();
        URL.revokeObjectURL(url);
      },
      error: (failure: ApiFailure) => {
        this.saving.set(null);
        this.problem.set(failure.message);
      },
    });
  }
}
