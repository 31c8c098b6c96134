import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { ActivatedRoute, Router, RouterLink, type ParamMap } from '@angular/router';
import type { BodyInput, StrikePlaces, StruckOut, StruckRow } from '@lithodex/contract';
import { countOf, formatDuration, formatFirst } from '@lithodex/core';
import { combineLatest, map, switchMap, of } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { StateMark, type Mark } from '../ui/state-mark';
import { TrustHead } from './trust-head';

const kinds = ['site', 'system', 'target', 'key', 'account'] as const;
type StrikeKind = (typeof kinds)[number];
type Chosen = Readonly<Record<StrikeKind, readonly string[]>>;

const fateWords: Readonly<Record<StruckRow['fate'], string>> = {
  lost: 'gone for good',
  comesBack: 'comes back',
  unprotected: 'lives, with no point left',
  poorer: 'lives, with fewer points',
  untouched: 'lives',
};
const fateMarks: Readonly<Record<StruckRow['fate'], Mark>> = {
  lost: 'fault',
  comesBack: 'done',
  unprotected: 'warning',
  poorer: 'look',
  untouched: 'fine',
};

/** What is crossed out, as the address says it. */
function chosenIn(params: ParamMap): Chosen {
  const all = (kind: StrikeKind) => params.getAll(kind);
  return { site: all('site'), system: all('system'), target: all('target'), key: all('key'), account: all('account') };
}

function bodyOf({ site, system, target, key, account }: Chosen): BodyInput<'strikeOut'> {
  const numbers = (texts: readonly string[]) => texts.map(Number).filter((n) => Number.isSafeInteger(n) && n > 0);
  return { sites: [...site], systems: numbers(system), targets: [...target], keys: [...key], accounts: numbers(account) };
}

/** Cross out what could be lost, and read at once what would be gone and what comes back. Nothing is changed by it. */
@Component({
  selector: 'lx-strike-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, TrustHead, StateMark, ...formatPipes],
  templateUrl: './strike-page.html',
  styleUrl: './strike-page.scss',
})
export class StrikePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  private readonly params = inject(ActivatedRoute).queryParamMap;
  protected readonly words = fateWords;
  protected readonly marks = fateMarks;
  private readonly known = toSignal(
    this.live.ticks((e) => e.kind === 'estate').pipe(switchMap(() => this.api.call('strikePlaces').pipe(outcome<StrikePlaces>()))),
  );
  private readonly struck = toSignal(
    combineLatest([this.params.pipe(map(chosenIn)), this.live.ticks((e) => e.kind === 'point')]).pipe(
      switchMap(([chosen]) =>
        isEmpty(chosen) ? of(undefined) : this.api.call('strikeOut', { body: bodyOf(chosen) }).pipe(outcome<StruckOut>()),
      ),
    ),
  );
  protected readonly chosen = toSignal(this.params.pipe(map(chosenIn)), { requireSync: true });
  protected readonly failure = computed(() => this.known()?.failure ?? this.struck()?.failure);
  protected readonly places = computed(() => this.known()?.value);
  protected readonly told = computed(() => this.struck()?.value);

  /** What is crossed out, by name. */
  protected readonly names = computed(() => {
    const { site, system, target, key, account } = this.chosen();
    const places = this.places();
    const systemName = (id: string) => places?.systems.find((s) => String(s.id) === id)?.name ?? id;
    const targetName = (id: string) => places?.targets.find((t) => t.id === id)?.name ?? id;
    return formatFirst(
      [
        ...site,
        ...system.map(systemName),
        ...target.map(targetName),
        ...key.map((id) => `the key of ${targetName(id)}`),
        ...account.map((id) => `the account at ${systemName(id)}`),
      ],
      4,
    );
  });

  protected readonly lead = computed(() => {
    const told = this.told();
    if (!told) return '';
    const { lost, comesBack, unprotected, poorer } = told.counts;
    const within = told.backMs === null ? 'nobody knows when, as not all was measured' : `within ${formatDuration(told.backMs)}`;
    const parts = [
      ...(lost ? [`${countOf(lost, 'workload')} gone for good`] : []),
      ...(comesBack ? [`${countOf(comesBack, 'workload')} back ${within}`] : []),
      ...(unprotected ? [`${countOf(unprotected, 'workload')} left without a point`] : []),
      ...(poorer ? [`${countOf(poorer, 'workload')} with fewer points`] : []),
    ];
    return parts.length ? `${parts.join(', ')}.` : 'Nothing would be lost.';
  });

  protected has(kind: StrikeKind, id: string | number): boolean {
    return this.chosen()[kind].includes(String(id));
  }

  protected toggle(kind: StrikeKind, id: string | number): void {
    const now = this.chosen()[kind];
    const next = this.has(kind, id) ? now.filter((x) => x !== String(id)) : [...now, String(id)];
    void this.router.navigate([], { queryParams: { [kind]: next.length ? next : null }, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected clear(): void {
    void this.router.navigate([], { queryParams: {} });
  }
}

const isEmpty = (chosen: Chosen) => kinds.every((kind) => chosen[kind].length === 0);
