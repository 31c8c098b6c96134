import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
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
import { MissingList, SaidPipe } from './missing-list';
import { missedRules, MissingLook, momentLookedAt, topsOf } from './missing-look';
import { StateMark, stateWord } from '../ui/state-mark';

interface Said {
  readonly person?: number | null;
  readonly what?: string;
  readonly at?: number | null;
  readonly about?: string;
}

/** The restore desk: whom it is for, when it was last right, and what was there then that is not now. */
@Component({
  selector: 'lx-desk-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, DeskAskings, FilePreviewPart, MissingList, SaidPipe, Slot, StateMark, ...formatPipes],
  templateUrl: './desk-page.html',
  styleUrls: ['./desk.scss', './desk-page.scss'],
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
  protected readonly moment = computed(() => momentLookedAt(this.allMoments(), this.at() ? Number(this.at()) : null, this.session.now()));
  private readonly question = computed(() => {
    const [workloadId, at] = [this.who(), this.moment()];
    return workloadId === null || at === null ? null : { workloadId, at, about: this.topic(), tops: topsOf(this.what()) };
  });
  protected readonly look = new MissingLook(this.question, (body) => this.api.call('deskLook', { body }));
  protected readonly rules = missedRules;
  protected readonly failed = signal('');
  /** The item that is read, of the answer that is shown. */
  protected readonly read = linkedSignal<DeskAnswer | undefined, DeskItem | undefined>({
    source: this.look.answer,
    computation: () => undefined,
  });
  protected readonly reason = signal('');
  protected readonly tell = signal(false);
  protected readonly busy = signal(false);
  private readonly runs = toSignal(
    this.live.reloading(
      () => this.api.call('listRuns', { query: { kinds: 'restore', limit: 50 } }).pipe(outcome<Answered<'listRuns'>>()),
      (e) => e.kind === 'run',
    ),
  );
  protected readonly mine = computed((): readonly RunRow[] =>
    (this.runs()?.value?.rows ?? []).filter((r) => r.by === this.session.me()?.name).slice(0, 6),
  );

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
    const pointId = this.look.answer()?.pointId;
    const reason = this.reason().trim();
    if (pointId === undefined || !this.look.ticked().size || reason.length < 5) return;
    this.busy.set(true);
    this.failed.set('');
    const items = [...this.look.ticked().values()];
    const name = items.length === 1 ? items[0]!.label : `${items.length} items of ${this.name()}`;
    const body = {
      name: name.slice(0, 120),
      picks: items.map((i) => ({ pointId, path: i.path })),
      destination: { to: 'original' as const },
      rule: this.look.ruleMeant(),
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
        this.failed.set(failure.message);
      },
    });
  }
}
