import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { ChangesAnswer, DeskItem } from '@lithodex/contract';
import { mailStoreOn } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { Picks } from '../data/picks';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { SaidPipe } from './missing-list';

type Shown = 'all' | DeskItem['change'];
const shownAtFirst = 100;
/** What does not stand in the address is empty. */
const given = (text: string | undefined) => text ?? '';

/** What a point of a person or a site holds beside what is there now, field by field. */
@Component({
  selector: 'lx-changes-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, SaidPipe, Slot, StateMark, ...formatPipes],
  templateUrl: './changes-page.html',
  styleUrls: ['./desk.scss', './changes-page.scss'],
})
export class ChangesPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly picks = inject(Picks);
  protected readonly session = inject(Session);
  readonly point = input('', { transform: given });
  readonly path = input('', { transform: given });
  readonly about = input('', { transform: given });
  /** Of a mail store: whose mailbox of now it is laid beside. */
  readonly person = input('', { transform: given });
  readonly show = input<Shown, Shown | undefined>('all', { transform: (show) => show ?? 'all' });
  protected readonly answer = signal<ChangesAnswer | undefined>(undefined);
  protected readonly asking = signal(false);
  protected readonly problem = signal('');
  protected readonly ticked = signal<ReadonlySet<DeskItem>>(new Set());
  protected readonly most = signal(shownAtFirst);
  /** Whether the services are asked in the name of the person whose data it is. */
  protected readonly asOwner = signal(false);
  protected readonly password = signal('');
  protected readonly marks = { changed: 'warning', gone: 'fault', added: 'fine' } as const;
  protected readonly kinds: SlotOption<Shown>[] = [
    { value: 'all', label: 'all that differs' },
    { value: 'changed', label: 'what is otherwise' },
    { value: 'gone', label: 'what is gone' },
    { value: 'added', label: 'what is new' },
  ];
  protected readonly fitting = computed(() => {
    const show = this.show();
    return (this.answer()?.items ?? []).filter((i) => show === 'all' || i.change === show);
  });
  protected readonly rows = computed(() => this.fitting().slice(0, this.most()));
  /** The folder of a mail store, without the disk around it. */
  protected readonly store = computed(() => mailStoreOn(this.path())?.store.split('/').slice(3).join('/'));
  protected readonly same = computed(() => {
    const a = this.answer();
    return a ? a.looked - a.counts.changed - a.counts.gone : 0;
  });

  constructor() {
    effect(() => {
      const question = [this.point(), this.path(), this.about(), this.person()].join('\n');
      untracked(() => {
        if (question && this.point()) this.compare();
      });
    });
  }

  protected compare(): void {
    const [id, path, about] = [this.point(), this.path(), this.about()];
    this.answer.set(undefined);
    this.ticked.set(new Set());
    this.most.set(shownAtFirst);
    this.problem.set('');
    this.asking.set(true);
    const own = this.asOwner() && this.password() !== '' ? this.password() : null;
    this.password.set('');
    const mine = () => id === this.point() && path === this.path() && about === this.about();
    this.api.call('itemChanges', { id, body: { workloadId: this.person() ? Number(this.person()) : null, path, about, own } }).subscribe({
      next: (answer) => {
        if (!mine()) return;
        this.asking.set(false);
        this.answer.set(answer);
      },
      error: (failure: ApiFailure) => {
        if (!mine()) return;
        this.asking.set(false);
        this.problem.set(failure.message);
      },
    });
  }

  protected say(said: { show?: Shown; about?: string }): void {
    const queryParams = { ...said, ...(said.show === 'all' && { show: null }), ...(said.about?.trim() === '' && { about: null }) };
    void this.router.navigate([], { queryParams, queryParamsHandling: 'merge' });
  }

  protected tick(item: DeskItem): void {
    this.ticked.update((now) => {
      const next = new Set(now);
      if (!next.delete(item)) next.add(item);
      return next;
    });
  }

  protected tickAll(): void {
    const all = this.fitting().filter((i) => i.path !== '');
    this.ticked.set(new Set(this.ticked().size === all.length ? [] : all));
  }

  /** What is ticked goes to the sheet, where it is said where to. */
  protected pick(): void {
    const a = this.answer();
    if (!a) return;
    this.picks.add(
      [...this.ticked()].map(({ path, size }) => ({
        pointId: this.point(),
        path,
        workload: a.workload.name,
        moment: a.moment,
        kind: 'file',
        size,
      })),
    );
    void this.router.navigate(['/recover/sheet']);
  }
}
