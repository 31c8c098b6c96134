import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Answered } from '@lithodex/contract';
import { mailStoreFolder, mailStoreOn } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Slot, type SlotOption } from '../ui/slot';

/** Mail stores inside a disk: looked for, opened as mailboxes, and laid beside the mailbox of somebody as it is now. */
@Component({
  selector: 'lx-mail-stores',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Slot],
  template: `@if (store(); as at) {
      <span class="small"
        >Beside the mailbox of
        <lx-slot label="mailbox" [options]="people()" [value]="null" text="somebody" (valueChange)="beside(at, $event)" />: what is in it no
        more.</span
      >
    } @else {
      <button type="button" class="act" [disabled]="busy()" (click)="look()">Look for mail stores</button>
      @if (busy()) {
        <span class="small mute" role="status">The disk is looked through …</span>
      }
      @if (found(); as f) {
        <span class="small" role="status">
          @for (row of f.rows; track row.path) {
            <a [routerLink]="[]" [queryParams]="{ path: row.path, item: null }" queryParamsHandling="merge">{{ shown(row.path) }}</a>
            <span class="mute layout">({{ row.layout }})</span>
          } @empty {
            None was found{{ f.whole ? '' : ' in what was looked at' }}.
          }
          @if (f.rows.length && !f.whole) {
            <span class="mute">There may be more.</span>
          }
        </span>
      }
      @if (problem()) {
        <span class="small f" role="alert">{{ problem() }}</span>
      }
    }`,
  styles: ':host { display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: center; } .layout { margin: 0 8px 0 4px; }',
})
export class MailStores {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  readonly pointId = input.required<string>();
  readonly path = input.required<string>();
  protected readonly store = computed(() => {
    const on = mailStoreOn(this.path());
    return on && `${on.store}/${mailStoreFolder}`;
  });
  private readonly systems = toSignal(this.api.call('listSystems').pipe(outcome<Answered<'listSystems'>>()));
  protected readonly people = computed((): SlotOption<number | null>[] =>
    (this.systems()?.value?.rows ?? [])
      .filter((s) => s.address.kind === 'tenant')
      .flatMap((s) => s.workloads.map(({ id, name }) => ({ value: id, label: name }))),
  );
  protected readonly busy = signal(false);
  protected readonly problem = signal('');
  protected readonly found = linkedSignal<string, Answered<'mailStores'> | undefined>({
    source: this.pointId,
    computation: () => undefined,
  });

  protected shown(path: string): string {
    return path.split('/').slice(3, -1).join('/');
  }

  protected look(): void {
    this.busy.set(true);
    this.problem.set('');
    this.api.call('mailStores', { id: this.pointId(), query: { path: this.path() } }).subscribe({
      next: (answer) => {
        this.busy.set(false);
        this.found.set(answer);
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(failure.message);
      },
    });
  }

  protected beside(path: string, person: number | null): void {
    if (person !== null) void this.router.navigate(['/recover/changes'], { queryParams: { point: this.pointId(), path, person } });
  }
}
