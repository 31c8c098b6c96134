import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { Router } from '@angular/router';
import { NgbDropdownModule } from '@ng-bootstrap/ng-bootstrap/dropdown';
import type { SavedFilter } from '@lithodex/contract';
import { startWith, Subject, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';

const sorted = (query: Record<string, string>) => JSON.stringify(Object.entries(query).sort());

/** Filters that a person gave names: one is opened by its name, what is filtered now gets one. */
@Component({
  selector: 'lx-saved-filters',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [NgbDropdownModule],
  template: `<span ngbDropdown container="body" autoClose="outside" #menu="ngbDropdown">
    <button type="button" class="act" ngbDropdownToggle>{{ current()?.name ?? 'Filters' }}</button>
    <span ngbDropdownMenu class="menu saved">
      @for (f of filters(); track f.id) {
        <span class="line">
          <button type="button" class="plain name" [class.on]="f.id === current()?.id" (click)="open(f); menu.close()">{{ f.name }}</button>
          <button type="button" class="plain" [attr.aria-label]="'Forget ' + f.name" (click)="forget(f)">✕</button>
        </span>
      } @empty {
        <span class="mute small">No filter has a name yet.</span>
      }
      @if (filtered() && !current()) {
        <form class="line" (submit)="save(name.value); name.value = ''; $event.preventDefault()">
          <input #name class="field" aria-label="Name of this filter" placeholder="Name what is filtered now" maxlength="120" required />
          <button class="act sm">Keep</button>
        </form>
      }
      @if (problem()) {
        <span class="small f" role="alert">{{ problem() }}</span>
      }
    </span>
  </span>`,
  styles: `
    .saved {
      padding: 8px 10px;
      min-width: 260px;
    }
    .line {
      display: flex;
      gap: 8px;
      align-items: center;
      padding: 2px 0;
    }
    .name {
      flex: 1;
      text-align: left;
    }
    .on {
      font-weight: 600;
    }
  `,
})
export class SavedFilters {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  /** What is filtered now, as it stands in the address. */
  readonly query = input.required<Record<string, string>>();
  private readonly changed = new Subject<void>();
  private readonly result = toSignal(
    this.changed.pipe(
      startWith(undefined),
      switchMap(() => this.api.call('listFilters').pipe(outcome())),
    ),
  );
  protected readonly filters = computed(() => this.result()?.value?.rows ?? []);
  protected readonly filtered = computed(() => Object.keys(this.query()).length > 0);
  protected readonly current = computed(() => this.filters().find((f) => sorted(f.query) === sorted(this.query())));
  protected readonly problem = signal('');

  protected open({ query }: SavedFilter): void {
    void this.router.navigate(['/runs'], { queryParams: query });
  }

  protected save(name: string): void {
    this.done(this.api.call('saveFilter', { body: { name, query: this.query() } }));
  }

  protected forget({ id }: SavedFilter): void {
    this.done(this.api.call('removeFilter', { id }));
  }

  private done(act: ReturnType<Api['call']>): void {
    this.problem.set('');
    act.subscribe({
      next: () => {
        this.changed.next();
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
