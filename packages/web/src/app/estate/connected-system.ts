import { computed, Directive, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { Router } from '@angular/router';
import type { BodyInput, SystemTest } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';

/** What the pages of connections to systems have in common: tested beside the form, saved after. */
@Directive()
export abstract class ConnectedSystem {
  protected readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** Of the source, or `new`. */
  readonly id = input.required<string>();
  private readonly listed = toSignal(this.api.call('listSystems').pipe(outcome()));
  protected readonly known = computed(() => this.listed()?.value?.rows.find((s) => String(s.id) === this.id()));
  protected readonly name = signal('');
  protected readonly location = signal('');
  protected readonly readBy = signal<string | null>(null);
  protected readonly tested = signal<SystemTest | undefined>(undefined);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected readonly anyMissing = computed(() => (this.tested()?.needs ?? []).some((n) => n.missing));

  /** What the form says of the way to the system, and what opens it: null where that stays. */
  protected abstract said(): Pick<BodyInput<'addSystem'>, 'address' | 'secret'>;
  /** Whether all is said that is needed. */
  protected abstract ready(): boolean;
  /** The workload whose page comes after the first time; undefined for the estate. */
  protected lands(_workloads: readonly number[]): number | undefined {
    return undefined;
  }

  private body(): BodyInput<'addSystem'> {
    return { name: this.name().trim(), location: this.location().trim(), readBy: this.readBy(), ...this.said() };
  }

  protected test(): void {
    this.begin();
    this.api.call('testSystem', { body: { id: this.known()?.id ?? null, body: this.body() } }).subscribe({
      next: (tested) => {
        this.busy.set(false);
        this.tested.set(tested);
      },
      error: this.fail,
    });
  }

  protected save(): void {
    if (!this.ready()) return;
    this.begin();
    const known = this.known();
    const goOn = (workload?: number) => void this.router.navigate(['/estate', ...(workload === undefined ? [] : [workload])]);
    if (known)
      this.api.call('changeSystem', { id: known.id, body: this.body() }).subscribe({
        next: () => {
          goOn();
        },
        error: this.fail,
      });
    else
      this.api.call('addSystem', { body: this.body() }).subscribe({
        next: ({ workloads }) => {
          goOn(this.lands(workloads));
        },
        error: this.fail,
      });
  }

  protected again(): void {
    const known = this.known();
    if (!known) return;
    this.begin();
    this.api.call('readSystem', { id: known.id }).subscribe({ next: () => void this.router.navigate(['/estate']), error: this.fail });
  }

  private begin(): void {
    this.busy.set(true);
    this.problem.set('');
  }

  private readonly fail = (failure: ApiFailure): void => {
    this.busy.set(false);
    this.problem.set(failure.message);
  };
}
