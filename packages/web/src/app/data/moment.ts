import { computed, inject, Injectable } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { ActivatedRoute, Router } from '@angular/router';
import { map } from 'rxjs';

/** The moment: the one time cursor of the application, kept in the address as `at`. */
@Injectable({ providedIn: 'root' })
export class Moment {
  private readonly router = inject(Router);
  private readonly query = toSignal(inject(ActivatedRoute).queryParamMap.pipe(map((q) => q.get('at'))), { initialValue: null });
  /** Instant in ms, or null for now. */
  readonly at = computed(() => {
    const text = this.query();
    const value = text === null ? NaN : Number(text);
    return Number.isSafeInteger(value) && value > 0 ? value : null;
  });

  set(at: number | null): void {
    void this.router.navigate([], { queryParams: { at }, queryParamsHandling: 'merge' });
  }
}
