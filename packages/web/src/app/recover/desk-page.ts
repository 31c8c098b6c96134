import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { Answered, DeskAnswer, DeskItem, Estate, RunRow } from '@lithodex/contract';
import { formatMoment } from '@lithodex/core';
import { map, of, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilePreviewPart } from '../estate/file-preview';
import { memberNouns, tenantFacts } from '../kinds/tenant-words';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { DeskAskings } from './desk-askings';
import { MissingList, SaidPipe, tickedAtFirst } from './missing-list';
import { StateMark, stateWord } from '../ui/state-mark';

interface Said {
  readonly person?: number | null;
  readonly what?: string;
  readonly at?: number | null;
  readonly about?: string;
}

const dayMs = 86_400_000;
const tops: Readonly<Record<string, readonly string[]>> = {
  all: [],
  mail: ['Mail'],
  calendar: ['Calendars'],
  contacts: ['Contacts'],
  files: ['Drive', 'Files'],
};

/** The restore desk: whom it is for, when it was last right, and what was there then that is not now. */
@Component({
  selector: 'lx-desk-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, DeskAskings, FilePreviewPart, MissingList, SaidPipe, Slot, StateMark, ...formatPipes],
  templateUrl: './desk-page.html',
  styleUrl: './desk-page.scss',
})
export class DeskPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  protected readonly session = inject(Session);
  readonly person = input<string>();
  readonly part = input<string>();
  readonly at = input<string>();
  readonly about = input<string>();
  protected readonly words = stateWord;
  protected readonly who = computed(() => (this.person() ? Number(this.person()) : null));
  protected readonly what = computed(() => this.part() ?? 'all');
  protected readonly topic = computed(() => this.about() ?? '');
  private readonly estate = toSignal(this.api.call('estate', { query: { show: 'points', limit: 500 } }).pipe(outcome<Estate>()));
  private readonly members = computed(() => (this.estate()?.value?.workloads ?? []).filter((w) => w.kind === 'tenant'));
  protected readonly people = computed((): SlotOption<number | null>[] =>
    this.members()
      .map((w) => ({ value: w.id, label: w.name, note: `${memberNouns[tenantFacts(w)?.type ?? 'person']}${w.gone ? ', left' : ''}` }))
      .sort((a, b) => a.label.localeCompare(b.label)),
  );
  protected readonly address = computed(() => {
    const chosen = this.members().find((w) => w.id === this.who());
    return chosen ? (tenantFacts(chosen)?.mail ?? '') : '';
  });
  protected readonly name = computed(() => this.members().find((w) => w.id === this.who())?.name ?? '');
  protected readonly parts: SlotOption<string>[] = [
    { value: 'all', label: 'all they have' },
    { value: 'mail', label: 'the mailbox' },
    { value: 'calendar', label: 'the calendar' },
    { value: 'contacts', label: 'the contacts' },
    { value: 'files', label: 'the files' },
  ];
  private readonly workload = toSignal(
    toObservable(this.who).pipe(
      switchMap((id) =>
        id === null ? of<Outcome<Answered<'workload'>>>({}) : this.api.call('workload', { id }).pipe(outcome<Answered<'workload'>>()),
      ),
    ),
  );
  protected readonly moments = computed((): SlotOption<number | null>[] =>
    (this.workload()?.value?.id === this.who() ? (this.workload()?.value?.pointList ?? []) : [])
      .map((p) => p.moment)
      .sort((a, b) => b - a)
      .map((value) => ({ value, label: formatMoment(value, this.session.zone(), this.session.now()) })),
  );
  protected readonly allMoments = computed(() => this.moments().flatMap((m) => m.value ?? []));
  /** As said, else a day ago: that is when people mostly last saw it. */
  protected readonly moment = computed(() => {
    const all = this.moments();
    const said = this.at() ? Number(this.at()) : null;
    if (said !== null) return all.find((m) => m.value! <= said)?.value ?? all.at(-1)?.value ?? null;
    const dayAgo = this.session.now() - dayMs;
    return all.find((m) => m.value! <= dayAgo)?.value ?? all.at(-1)?.value ?? null;
  });
  private readonly question = computed(() => {
    const [workloadId, at] = [this.who(), this.moment()];
    return workloadId === null || at === null ? null : { workloadId, at, about: this.topic(), tops: [...(tops[this.what()] ?? [])] };
  });
  protected readonly asking = signal(false);
  protected readonly problem = signal('');
  protected readonly answer = signal<DeskAnswer | undefined>(undefined);
  protected readonly ticked = signal<ReadonlyMap<string, DeskItem>>(new Map());
  protected readonly read = signal<DeskItem | undefined>(undefined);
  protected readonly reason = signal('');
  protected readonly tell = signal(false);
  protected readonly busy = signal(false);
  protected readonly rule = signal<'leave' | 'replace' | 'beside'>('replace');
  protected readonly rules: SlotOption<'leave' | 'replace' | 'beside'>[] = [
    { value: 'replace', label: 'is replaced' },
    { value: 'beside', label: 'stays, and the old one is put beside it' },
    { value: 'leave', label: 'is left as it is' },
  ];
  protected readonly changedOnes = computed(() => [...this.ticked().values()].some((i) => i.change === 'changed'));
  protected readonly bytes = computed(() => [...this.ticked().values()].reduce((sum, i) => sum + i.size, 0));
  private readonly runs = toSignal(
    this.live.reloading(
      () => this.api.call('listRuns', { query: { kinds: 'restore', limit: 50 } }).pipe(outcome<Answered<'listRuns'>>()),
      (e) => e.kind === 'run',
    ),
  );
  protected readonly mine = computed((): readonly RunRow[] =>
    (this.runs()?.value?.rows ?? []).filter((r) => r.by === this.session.me()?.name).slice(0, 6),
  );

  constructor() {
    effect(() => {
      const question = this.question();
      untracked(() => {
        this.look(question);
      });
    });
  }

  private look(question: ReturnType<typeof this.question>): void {
    this.answer.set(undefined);
    this.ticked.set(new Map());
    this.read.set(undefined);
    this.problem.set('');
    if (!question) return;
    this.asking.set(true);
    const mine = () => this.question() === question;
    this.api.call('deskLook', { body: question }).subscribe({
      next: (answer) => {
        if (!mine()) return;
        this.asking.set(false);
        this.answer.set(answer);
        this.ticked.set(tickedAtFirst(answer));
      },
      error: (failure: ApiFailure) => {
        if (!mine()) return;
        this.asking.set(false);
        this.problem.set(failure.message);
      },
    });
  }

  /** What is said stands in the address. */
  protected say(said: Said): void {
    const now = { person: this.who(), part: this.what(), at: this.at() ? Number(this.at()) : null, about: this.topic() };
    const next = { ...now, ...said, part: said.what ?? now.part };
    void this.router.navigate(['/recover/desk'], {
      queryParams: {
        person: next.person ?? undefined,
        part: next.part === 'all' ? undefined : next.part,
        at: next.at ?? undefined,
        about: next.about.trim() || undefined,
      },
    });
  }

  protected bring(): void {
    const pointId = this.answer()?.pointId;
    const reason = this.reason().trim();
    if (pointId === undefined || !this.ticked().size || reason.length < 5) return;
    this.busy.set(true);
    this.problem.set('');
    const items = [...this.ticked().values()];
    const name = items.length === 1 ? items[0]!.label : `${items.length} items of ${this.name()}`;
    const body = {
      name: name.slice(0, 120),
      picks: items.map((i) => ({ pointId, path: i.path })),
      destination: { to: 'original' as const },
      rule: this.changedOnes() ? this.rule() : ('leave' as const),
      rescue: false,
      reason,
    };
    const started = this.api.call('startRestore', { body });
    const told = (run: { runId: number }) => this.api.call('tellPerson', { body: run }).pipe(map(() => run));
    started.pipe(switchMap((run) => (this.tell() ? told(run) : of(run)))).subscribe({
      next: ({ runId }) => {
        this.busy.set(false);
        void this.router.navigate(['/runs', runId]);
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(failure.message);
      },
    });
  }
}
