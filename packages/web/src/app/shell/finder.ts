import { A11yModule } from '@angular/cdk/a11y';
import { ChangeDetectionStrategy, Component, computed, inject, output, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router } from '@angular/router';
import type { FinderHit } from '@lithodex/contract';
import { catchError, debounceTime, of, switchMap } from 'rxjs';
import { Api } from '../data/api';

const acts: readonly FinderHit[] = [
  { kind: 'place', title: 'Connect a source', note: 'act', link: '/estate', query: { connect: 'yes' } },
  { kind: 'place', title: 'Write a policy', note: 'act', link: '/policies/new', query: {} },
  { kind: 'place', title: 'What failed', note: 'runs', link: '/runs', query: { states: 'failed' } },
  { kind: 'place', title: 'Unprotected servers', note: 'estate', link: '/estate', query: { show: 'none' } },
  { kind: 'place', title: 'Open the restore sheet', note: 'recover', link: '/recover/sheet', query: {} },
  { kind: 'place', title: 'Storage targets', note: 'storage', link: '/storage', query: {} },
  { kind: 'place', title: 'What changed more than usual', note: 'trust', link: '/trust', query: {} },
  { kind: 'place', title: 'What was scanned', note: 'trust', link: '/trust/scans', query: {} },
  { kind: 'place', title: 'What is sensitive', note: 'trust', link: '/trust/sensitive', query: {} },
  { kind: 'place', title: 'Drills', note: 'trust', link: '/trust/drills', query: {} },
  { kind: 'place', title: 'Strike it out', note: 'trust', link: '/trust/strike', query: {} },
  { kind: 'place', title: 'Audit trail', note: 'trust', link: '/trust/acts', query: {} },
];

/** Finds any workload, policy, run, file or act. */
@Component({
  selector: 'lx-finder',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [A11yModule],
  template: `<div class="dialog-back" (click)="closed.emit()" (keydown)="onKey($event)" tabindex="-1">
    <section
      class="sheet box"
      role="dialog"
      aria-modal="true"
      aria-label="Find anything"
      cdkTrapFocus
      cdkTrapFocusAutoCapture
      (click)="$event.stopPropagation()"
      (keydown)="onKey($event); $event.stopPropagation()"
      tabindex="-1"
    >
      <input
        #box
        class="field"
        placeholder="A server, a policy, a run number, a file in any point, an act"
        [value]="text()"
        (input)="text.set(box.value); chosen.set(0)"
        cdkFocusInitial
        role="combobox"
        aria-expanded="true"
        aria-controls="lx-hits"
        aria-label="Find anything"
      />
      <div id="lx-hits" role="listbox">
        @for (hit of hits(); track hit.title + hit.note; let i = $index) {
          <button
            type="button"
            role="option"
            class="hit"
            [class.on]="i === chosen()"
            [attr.aria-selected]="i === chosen()"
            (click)="open(hit)"
            (mouseenter)="chosen.set(i)"
          >
            <span class="kind">{{ hit.kind === 'place' ? 'go to' : hit.kind }}</span><span class="cut">{{ hit.title }}</span
            ><span class="note cut mute">{{ hit.note }}</span>
          </button>
        } @empty {
          <div class="empty">Nothing fits. Files are found by any part of their name.</div>
        }
      </div>
    </section>
  </div>`,
  styles: `
    .box {
      width: min(680px, 92vw);
      padding: 12px;
    }
    input {
      width: 100%;
      padding: 8px 12px;
      font-size: 15px;
    }
    .hit {
      display: grid;
      grid-template-columns: 76px minmax(120px, 1fr) minmax(80px, 1fr);
      gap: 10px;
      width: 100%;
      text-align: left;
      border: 0;
      background: none;
      color: inherit;
      padding: 6px 10px;
      border-radius: 6px;
    }
    .hit.on {
      background: var(--lapis-soft);
    }
    .kind {
      color: var(--ink-3);
      font-size: 12px;
      padding-top: 1px;
    }
    .note {
      text-align: right;
      direction: rtl;
      unicode-bidi: plaintext;
    }
    #lx-hits {
      margin-top: 8px;
      max-height: 55vh;
      overflow: auto;
    }
  `,
})
export class Finder {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  readonly closed = output();
  protected readonly text = signal('');
  protected readonly chosen = signal(0);
  private readonly found = toSignal(
    toObservable(this.text).pipe(
      debounceTime(120),
      switchMap((q) =>
        q.trim() ? this.api.call('find', { query: { q: q.trim() } }).pipe(catchError(() => of({ hits: [] }))) : of({ hits: [] }),
      ),
    ),
    { initialValue: { hits: [] as FinderHit[] } },
  );
  protected readonly hits = computed(() => {
    const text = this.text().trim().toLowerCase();
    return [...this.found().hits, ...acts.filter((a) => !text || a.title.toLowerCase().includes(text))];
  });

  protected onKey(event: KeyboardEvent): void {
    if (event.key === 'Escape') this.closed.emit();
    else if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
      event.preventDefault();
      const n = this.hits().length;
      if (n) this.chosen.update((i) => (i + (event.key === 'ArrowDown' ? 1 : n - 1)) % n);
    } else if (event.key === 'Enter') {
      event.preventDefault();
      const hit = this.hits()[this.chosen()];
      if (hit) this.open(hit);
    }
  }

  protected open(hit: FinderHit): void {
    this.closed.emit();
    void this.router.navigate([hit.link], { queryParams: hit.query });
  }
}
