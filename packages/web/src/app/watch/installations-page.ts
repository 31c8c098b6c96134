import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { Answered, InstallationRow } from '@lithodex/contract';
import { BehaviorSubject, merge, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { formatPipes } from '../ui/format-pipes';
import { StateMark, type Mark } from '../ui/state-mark';

const againMs = 60_000;
/** From here on clocks that differ are worth a word. */
const apartMs = 30_000;
/** What is full later than that is no news. */
const soonMs = 365 * 86_400_000;
type State = NonNullable<InstallationRow['state']>;

/** Several installations in one view: what needs somebody, coverage, room, and how old what each said is. */
@Component({
  selector: 'lx-installations-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Certain, FormsModule, RouterLink, StateMark, ...formatPipes],
  templateUrl: './installations-page.html',
  styleUrl: './installations-page.scss',
})
export class InstallationsPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly again = new BehaviorSubject<void>(undefined);
  private readonly result = toSignal(
    merge(this.again, timer(againMs, againMs)).pipe(switchMap(() => this.api.call('overview').pipe(outcome<Answered<'overview'>>()))),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows);
  protected readonly failure = computed(() => this.result()?.failure?.message);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  /** What is written down: a new one (null), or one that is changed. */
  protected readonly form = signal<InstallationRow | null | undefined>(undefined);
  protected readonly forgetting = signal<InstallationRow | undefined>(undefined);
  protected readonly name = signal('');
  protected readonly url = signal('');
  protected readonly token = signal('');
  protected readonly authority = signal('');

  protected markOf({ state, trouble }: InstallationRow): Mark {
    if (trouble) return 'absent';
    if (!state) return 'look';
    return state.matters.fault ? 'fault' : state.matters.warning + state.matters.absent ? 'warning' : 'fine';
  }
  protected needs({ matters: { fault, warning, absent } }: State): number {
    return fault + warning + absent;
  }
  protected isApart({ clockAhead }: InstallationRow): boolean {
    return Math.abs(clockAhead) > apartMs;
  }
  protected isSoon(at: number): boolean {
    return at - this.session.now() < soonMs;
  }
  protected readonly abs = Math.abs;

  protected write(row: InstallationRow | null): void {
    this.problem.set('');
    this.token.set('');
    this.name.set(row?.name ?? '');
    this.url.set(row?.url ?? '');
    this.authority.set(row?.authority ?? '');
    this.form.set(row);
  }

  protected save(): void {
    const row = this.form();
    if (row === undefined) return;
    this.busy.set(true);
    this.problem.set('');
    const body = {
      name: this.name(),
      url: this.url().trim(),
      token: this.token().trim() || null,
      authority: this.authority().trim() || null,
    };
    const id = row?.id ?? null;
    const done = {
      next: () => {
        this.busy.set(false);
        this.form.set(undefined);
        this.again.next();
      },
      error: this.fail,
    };
    if (id === null) this.api.call('addInstallation', { body }).subscribe(done);
    else this.api.call('changeInstallation', { id, body }).subscribe(done);
  }

  protected forget({ id }: InstallationRow): void {
    if (id === null) return;
    this.api.call('removeInstallation', { id }).subscribe({
      next: () => {
        this.forgetting.set(undefined);
        this.again.next();
      },
      error: this.fail,
    });
  }

  private readonly fail = (f: ApiFailure): void => {
    this.busy.set(false);
    this.problem.set(f.message);
  };
}
