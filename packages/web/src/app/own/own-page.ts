import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { takeUntilDestroyed, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import type { Answered, DeskAnswer, DeskItem, Own, Receipt } from '@lithodex/contract';
import { formatMoment } from '@lithodex/core';
import { catchError, filter, interval, of, switchMap, type Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { MissingList, tickedAtFirst } from '../recover/missing-list';
import { Brand } from '../shell/brand';
import { Focus } from '../ui/focus';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';

const everyMs = 4000;
const dayMs = 86_400_000;
const tops: Readonly<Record<string, string[]>> = {
  all: [],
  mail: ['Mail'],
  calendar: ['Calendars'],
  contacts: ['Contacts'],
  files: ['Drive'],
};

/** Where somebody who misses something looks for it themselves, and asks the desk for it or brings it back. */
@Component({
  selector: 'lx-own-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Brand, Focus, MissingList, Slot, StateMark, ...formatPipes],
  templateUrl: './own-page.html',
  styleUrl: './own-page.scss',
})
export class OwnPage {
  private readonly api = inject(Api);
  private readonly session = inject(Session);
  readonly link = input<string>();
  /** What went wrong where the organisation lets people in. */
  readonly problem = input<string>();
  protected readonly ways = toSignal(this.api.call('signInWays').pipe(catchError(() => of({ organisation: null, selfService: false }))));
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
  /** As said, else a day ago: that is when people mostly last saw it. */
  protected readonly moment = computed(() => {
    const said = this.chosenMoment();
    if (said !== null) return said;
    const all = this.own()?.moments ?? [];
    const dayAgo = this.session.now() - dayMs;
    return all.find((m) => m <= dayAgo) ?? all.at(-1) ?? null;
  });
  protected readonly about = signal('');
  protected readonly mayChoose = computed(() => ['sent', 'asked', undefined].includes(this.own()?.asking?.state));
  private readonly question = computed(
    () => {
      const at = this.moment();
      return this.own() && this.mayChoose() && at !== null ? { at, about: this.about().trim(), tops: tops[this.part()] ?? [] } : null;
    },
    { equal: (a, b) => JSON.stringify(a) === JSON.stringify(b) },
  );
  protected readonly answer = signal<DeskAnswer | undefined>(undefined);
  protected readonly looking = signal(false);
  protected readonly ticked = signal<ReadonlyMap<string, DeskItem>>(new Map());
  protected readonly words = signal('');
  protected readonly rule = signal<'leave' | 'replace' | 'beside'>('replace');
  protected readonly rules: SlotOption<'leave' | 'replace' | 'beside'>[] = [
    { value: 'replace', label: 'is replaced' },
    { value: 'beside', label: 'stays, and the old one is put beside it' },
    { value: 'leave', label: 'is left as it is' },
  ];
  protected readonly changedOnes = computed(() => [...this.ticked().values()].some((i) => i.change === 'changed'));
  protected readonly bytes = computed(() => [...this.ticked().values()].reduce((sum, i) => sum + i.size, 0));

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
    effect(() => {
      const question = this.question();
      untracked(() => {
        this.look(question);
      });
    });
  }

  /** Whether something is to be known that is not yet. */
  private waits(): boolean {
    const own = this.own();
    if (!own) return false;
    const open = (r: Receipt | null | undefined) => r?.at === null;
    return own.asking ? own.asking.state === 'asked' || open(own.asking.receipt) : own.receipts.some(open);
  }

  private look(question: ReturnType<typeof this.question>): void {
    this.answer.set(undefined);
    this.ticked.set(new Map());
    if (!question) return;
    this.looking.set(true);
    this.failed.set('');
    const mine = () => this.question() === question;
    this.api.call('ownLook', { body: question }).subscribe({
      next: (answer) => {
        if (!mine()) return;
        this.looking.set(false);
        this.answer.set(answer);
        this.ticked.set(tickedAtFirst(answer));
      },
      error: (failure: ApiFailure) => {
        if (!mine()) return;
        this.looking.set(false);
        this.failed.set(failure.message);
      },
    });
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
        this.api
          .call('ownRestore', { body: { ...body, rule: this.changedOnes() ? this.rule() : 'leave' } })
          .pipe(switchMap(() => this.api.call('own'))),
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
    this.ticked.set(new Map());
    this.own.set(this.session.enter(own));
  };

  private chosen(): { pointId: string; paths: string[]; words: string } | undefined {
    const pointId = this.answer()?.pointId;
    const paths = [...this.ticked().keys()];
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
