import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import { baseName } from '@lithodex/core';
import type { ResourcePair } from '@lithodex/kinds';
import { diffLines } from 'diff';
import { of, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';

/** A line of each text, beside each other; undefined where the other has none. */
interface Row {
  readonly then: string | undefined;
  readonly now: string | undefined;
}

/** Two texts as rows: what is the same in both stands beside itself. */
export function besideEachOther({ then, now }: ResourcePair): Row[] {
  const rows: Row[] = [];
  const gone: string[] = [];
  const flush = () => {
    for (const line of gone.splice(0)) rows.push({ then: line, now: undefined });
  };
  for (const part of diffLines(then, now ?? '')) {
    const lines = part.value.replace(/\n$/, '').split('\n');
    if (part.removed) gone.push(...lines);
    else if (part.added) {
      for (const line of lines) rows.push({ then: gone.shift(), now: line });
      flush();
    } else {
      flush();
      for (const line of lines) rows.push({ then: line, now: line });
    }
  }
  flush();
  return rows;
}

/** A resource of an application as a point has it, beside the one that is there now. */
@Component({
  selector: 'lx-resource-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  templateUrl: './resource-page.html',
  styleUrl: './resource-page.scss',
})
export class ResourcePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly picks = inject(Picks);
  protected readonly session = inject(Session);
  /** Of the workload. */
  readonly id = input.required<string>();
  readonly point = input<string>();
  readonly path = input<string>();

  private readonly workloadAsked = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('workload', { id }).pipe(outcome()))),
  );
  protected readonly workload = computed(() => this.workloadAsked()?.value);
  protected readonly taken = computed(() => this.workload()?.pointList.find((p) => p.id === this.point()));
  private readonly asked = toSignal(
    toObservable(computed(() => ({ id: this.point(), path: this.path() }))).pipe(
      switchMap(({ id, path }) =>
        id && path ? this.api.call('resourcePair', { id, query: { path } }).pipe(outcome<ResourcePair>()) : of<Outcome<ResourcePair>>({}),
      ),
    ),
  );
  protected readonly pair = computed(() => this.asked()?.value);
  protected readonly failure = computed(() => this.asked()?.failure?.message ?? this.workloadAsked()?.failure?.message);
  protected readonly rows = computed(() => {
    const pair = this.pair();
    return pair ? besideEachOther(pair) : [];
  });
  protected readonly differing = computed(() => this.rows().filter((r) => r.then !== r.now).length);
  protected readonly title = computed(() => baseName(this.path() ?? '').replace(/\.yaml$/, ''));

  /** It goes to the sheet, where it is said where to. */
  protected pick(): void {
    const [w, taken, path, pair] = [this.workload(), this.taken(), this.path(), this.pair()];
    if (!w || !taken || !path || !pair) return;
    this.picks.add([{ pointId: taken.id, path, workload: w.name, moment: taken.moment, kind: 'file', size: pair.then.length }]);
    void this.router.navigate(['/recover/sheet']);
  }
}
