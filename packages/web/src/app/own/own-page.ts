import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import type { Answered, Own, Receipt } from '@lithodex/contract';
import { formatMoment } from '@lithodex/core';
import { catchError, filter, interval, of, switchMap, type Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { MissingList } from '../recover/missing-list';
import { missedRules, MissingLook, momentLookedAt, topsOf } from '../recover/missing-look';
import { Brand } from '../shell/brand';
import { Focus } from '../ui/focus';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';

const everyMs = 4000;
/** Where somebody who misses something looks for it themselves, and asks the desk for it or brings it back. */
@Component({
  selector: 'lx-own-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Brand, Focus, MissingList, Slot, StateMark, ...formatPipes],
  templateUrl: './own-page.html',
  styleUrls: ['../recover/desk.scss', './own-page.scss'],
})
export class OwnPage {
  private readonly api = inject(Api);
  private readonly session = inject(Session);
  readonly link = input<string>();
  /** What went wrong where the organisation lets people in. */
  readonly problem = input<string>();
  protected readonly ways = toSignal(
    this.api.call('signInWays').pipe(catchError(() => of({ organisation: null, selfService: false, nobodyYet: false }))),
  );
  protected readonly own = signal<Own | undefined>(undefined);
  /** Whether it is known if somebody is in. */
  protected readonly asked = signal(false);
  protected readonly address = signal('');
  protected readonly codeTo = signal('');
  protected readonly code = signal('');
  protected readonly failed = signal('');
  protected readonly busy = signal(false);
  protected readonly organisationWay = computed(() => `/api/v1/session/organisation?own=${encodeURIComponent(this.link() ?? '')}`);

  protected readonly part = signal('all');
  protected readonly parts: SlotOption<string>[] = [
    { value: 'all', label: 'all I have' },
    { value: 'mail', label: 'my mailbox' },
    { value: 'calendar', label: 'my calendar' },
    { value: 'contacts', label: 'my contacts' },
    { value: 'files', label: 'my files' },
  ];
  protected readonly chosenMoment = signal<number | null>(null);
  protected readonly moments = computed((): SlotOption<number | null>[] =>
    (this.own()?.moments ?? []).map((value) => ({ value, label: formatMoment(value, this.session.zone(), this.session.now()) })),
  );
  protected readonly moment = computed(() => momentLookedAt(this.own()?.moments ?? [], this.chosenMoment(), this.session.now()));
  protected readonly about = signal('');
  protected readonly mayChoose = computed(() => ['sent', 'asked', undefined].includes(this.own()?.asking?.state));
  private readonly question = computed(
    () => {
      const at = this.moment();
      return this.own() && this.mayChoose() && at !== null ? { at, about: this.about().trim(), tops: topsOf(this.part()) } : null;
    },
    { equal: (a, b) => JSON.stringify(a) === JSON.stringify(b) },
  );
  protected readonly look = new MissingLook(this.question, (body) => this.api.call('ownLook', { body }));
  protected readonly words = signal('');
  protected readonly rules = missedRules;

  constructor() {
    this.api
      .call('own')
      .pipe(catchError(() => of(undefined)))
      .subscribe((own) => {
        this.asked.set(true);
        if (own) this.own.set(this.session.enter(own));
      });
    interval(everyMs)
      .pipe(
        filter(() => this.waits()),
        switchMap(() => this.api.call('own').pipe(catchError(() => of(undefined)))),
        takeUntilDestroyed(),
      )
      .subscribe((own) => {
        this.own.set(own && this.session.enter(own));
      });
  }

  /** Whether something is to be known that is not yet. */
  private waits(): boolean {
    const own = this.own();
    if (!own) return false;
    const open = (r: Receipt | null | undefined) => r?.at === null;
    return own.asking ? own.asking.state === 'asked' || open(own.asking.receipt) : own.receipts.some(open);
  }

  private byWhat(): { link: string } | { address: string } {
    const link = this.link();
    return link ? { link } : { address: this.address() };
  }

  protected sendCode(): void {
    this.act(this.api.call('ownCode', { body: this.byWhat() }), ({ to }) => {
      this.codeTo.set(to);
    });
  }

  protected enter(): void {
    this.act(this.api.call('ownSession', { body: { ...this.byWhat(), code: this.code().trim() } }), (own) => {
      this.own.set(this.session.enter(own));
    });
  }

  protected ask(): void {
    const body = this.chosen();
    if (body) this.act(this.api.call('ownAsk', { body }).pipe(switchMap(() => this.api.call('own'))), this.take);
  }

  protected bring(): void {
    const body = this.chosen();
    if (body)
      this.act(
        this.api.call('ownRestore', { body: { ...body, rule: this.look.ruleMeant() } }).pipe(switchMap(() => this.api.call('own'))),
        this.take,
      );
  }

  protected leave(): void {
    this.act(this.api.call('ownEnd'), () => {
      this.own.set(undefined);
      this.codeTo.set('');
      this.code.set('');
    });
  }

  private readonly take = (own: Answered<'own'>): void => {
    this.words.set('');
    this.look.ticked.set(new Map());
    this.own.set(this.session.enter(own));
  };

  private chosen(): { pointId: string; paths: string[]; words: string } | undefined {
    const pointId = this.look.answer()?.pointId;
    const paths = [...this.look.ticked().keys()];
    return pointId !== undefined && paths.length ? { pointId, paths, words: this.words().trim() } : undefined;
  }

  private act<T>(call: Observable<T>, then: (answer: T) => void): void {
    this.busy.set(true);
    this.failed.set('');
    call.subscribe({
      next: (answer) => {
        this.busy.set(false);
        then(answer);
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.failed.set(failure.message);
        if (failure.code === 'NOT_SIGNED_IN') this.own.set(undefined);
      },
    });
  }
}
