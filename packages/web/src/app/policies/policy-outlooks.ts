import { computed, inject, type Signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { PolicyBody, PolicyMeasures } from '@lithodex/contract';
import { debounceTime, distinctUntilChanged, filter, of, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Simulation } from './simulation';
import type { TargetOutlook } from './simulation-job';

const daysAhead = 5 * 365;

interface Subject {
  readonly id: Signal<number | null>;
  readonly draft: Signal<PolicyBody | null>;
  readonly inForce: Signal<PolicyBody | null>;
}

/** What the measures of a draft depend on. */
const measuredBy = (id: number | null, b: PolicyBody) =>
  JSON.stringify([
    id,
    b.workloads,
    b.tags,
    b.rule,
    b.except,
    b.rules.map((r) => [r.no, r.targetId, r.copies.map((c) => c.targetId), r.schedule.every === 'after' && r.schedule]),
  ]);

/**
 * The years ahead of a draft and of what is in force, lived from what is measured of what the draft matches, on the targets it uses; undefined until it is known. To be called while a component
 * is made.
 */
export function policyOutlooks({ id, draft, inForce }: Subject): Signal<readonly TargetOutlook[] | undefined> {
  const [api, simulation] = [inject(Api), inject(Simulation)];
  const measures = toSignal(
    toObservable(draft).pipe(
      debounceTime(150),
      filter((body) => body !== null),
      distinctUntilChanged(
        (a, b) => a === b,
        (body) => measuredBy(id(), body),
      ),
      switchMap((body) =>
        api.call('policyMeasures', { body: { id: id(), body: { ...body, name: body.name || 'draft' } } }).pipe(outcome<PolicyMeasures>()),
      ),
    ),
  );
  const job = computed(() => {
    const [measured, body] = [measures(), draft()];
    if (!measured) return undefined;
    return measured.value && body ? { measures: measured.value, draft: body, inForce: inForce(), days: daysAhead } : null;
  });
  return toSignal(
    toObservable(job).pipe(
      filter((j) => j !== undefined),
      debounceTime(60),
      switchMap((j) => (j ? simulation.run(j) : of([]))),
    ),
  );
}
