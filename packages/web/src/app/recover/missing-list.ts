import {
  ChangeDetectionStrategy,
  Component,
  computed,
  inject,
  input,
  model,
  output,
  Pipe,
  signal,
  type PipeTransform,
} from '@angular/core';
import type { DeskAnswer, DeskItem } from '@lithodex/contract';
import { formatMoment } from '@lithodex/core';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

type Group = DeskAnswer['groups'][number];

/** Of a large group so many are shown until more are wanted. */
const shownAtFirst = 8;
const weekMs = 7 * 86_400_000;

/** A value of an item as it is read: moments as everywhere else. */
@Pipe({ name: 'said' })
export class SaidPipe implements PipeTransform {
  private readonly session = inject(Session);

  transform(value: string): string {
    const at = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}Z?$/.test(value) ? Date.parse(value) : NaN;
    return Number.isNaN(at) ? value : formatMoment(at, this.session.zone(), this.session.now());
  }
}

/** What was there and is not now, by what went together, to be ticked. */
@Component({
  selector: 'lx-missing-list',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [SaidPipe, StateMark, ...formatPipes],
  templateUrl: './missing-list.html',
  styleUrls: ['./desk.scss', './missing-list.scss'],
})
export class MissingList {
  private readonly session = inject(Session);
  readonly answer = input.required<DeskAnswer>();
  readonly about = input('');
  /** Moments at which there is a point. */
  readonly moments = input<readonly number[]>([]);
  /** Another moment is to be looked at. */
  readonly look = output<number>();
  /** Whether items can be read. */
  readonly opens = input(false);
  readonly ticked = model.required<ReadonlyMap<string, DeskItem>>();
  readonly read = model<DeskItem | undefined>();
  protected readonly earlier = computed(() => earlierMoments(this.moments(), this.answer().moment));
  protected readonly open = signal<Group | undefined>(undefined);

  protected shownOf(group: Group): readonly DeskItem[] {
    return this.open() === group ? group.items : group.items.slice(0, shownAtFirst);
  }

  protected between({ from, to, together }: Group): string {
    if (!together) return 'since then';
    const words = (at: number) => formatMoment(at, this.session.zone(), this.session.now());
    return to === null ? `since ${words(from)}` : `${words(from)} to ${words(to)}`;
  }

  protected allOf(group: Group): boolean {
    return group.items.every((i) => this.ticked().has(i.path));
  }

  protected tickAll(group: Group): void {
    const all = this.allOf(group);
    this.ticked.update((now) => {
      const next = new Map(now);
      for (const item of group.items)
        if (all) next.delete(item.path);
        else next.set(item.path, item);
      return next;
    });
  }

  protected tick(item: DeskItem): void {
    this.ticked.update((now) => {
      const next = new Map(now);
      if (!next.delete(item.path)) next.set(item.path, item);
      return next;
    });
  }

  /** Where items can't be read, a click ticks. */
  protected show(item: DeskItem): void {
    if (this.opens()) this.read.set(item);
    else this.tick(item);
  }
}

/** Where somebody looks next when nothing of a moment is missing: the point before it, one a week before, and the oldest. Newest first, each once. */
export function earlierMoments(moments: readonly number[], at: number): number[] {
  const before = moments.filter((m) => m < at).sort((a, b) => b - a);
  const found = [before[0], before.find((m) => m <= at - weekMs), before.at(-1)];
  return [...new Set(found.filter((m) => m !== undefined))];
}
