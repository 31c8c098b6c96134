import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router } from '@angular/router';
import type { Changes } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { combineLatest, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { ChangeLanes } from './change-lanes';
import { ChangeSide } from './change-side';
import { TrustHead } from './trust-head';

const spans = [14, 30, 60] as const;

/** How far the points of the last nights are from what is usual for their workloads. */
@Component({
  selector: 'lx-changes-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [TrustHead, ChangeLanes, ChangeSide],
  template: `<div class="page">
    <lx-trust-head
      ><span class="mute">{{ summary() }}</span></lx-trust-head
    >
    @if (failure(); as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    }
    <div class="two">
      <section class="sheet box">
        <div class="bar">
          <h2>Change against each workload’s own usual</h2>
          <span class="small mute">up: more than usual; hatched: held</span><span class="grow"></span>
          @for (n of spans; track n) {
            <button type="button" class="act sm" [class.on]="span() === n" [attr.aria-pressed]="span() === n" (click)="go({ days: n })">
              {{ n }} days
            </button>
          }
        </div>
        <div class="scroll body" tabindex="0" role="region" aria-label="Points by workload">
          @if (changes(); as c) {
            @if (c.rows.length) {
              <lx-change-lanes [changes]="c" [chosen]="chosen()" (picked)="go({ point: $event })" />
            } @else {
              <p class="mute">Every workload stayed in its usual.</p>
            }
            @if (c.rows.length && c.others) {
              <p class="small mute">{{ othersWords() }} in their usual</p>
            }
          }
        </div>
      </section>
      <section class="sheet scroll" tabindex="0" aria-label="The point">
        @if (chosen(); as id) {
          <lx-change-side [pointId]="id" [row]="row()" (said)="acts.again()" />
        } @else if (changes()) {
          <p class="mute none">Choose a point to read why it stands out.</p>
        }
      </section>
    </div>
  </div>`,
  styles: `
    :host {
      display: block;
      height: 100%;
    }
    .two {
      display: grid;
      grid-template-columns: minmax(0, 1fr) 400px;
      gap: 14px;
      flex: 1;
      min-height: 0;
    }
    .box {
      display: flex;
      flex-direction: column;
      min-height: 0;
      overflow: hidden;
    }
    .bar {
      display: flex;
      gap: 10px;
      align-items: center;
      padding: 9px 14px;
      border-bottom: 1px solid var(--line);
    }
    .body {
      padding: 12px 16px;
    }
    .none {
      padding: 14px 16px;
    }
  `,
})
export class ChangesPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  readonly days = input<string>();
  readonly point = input<string>();
  protected readonly acts = new Acts();
  protected readonly spans = spans;
  protected readonly span = computed(() => spans.find((n) => String(n) === this.days()) ?? 14);
  private readonly result = toSignal(
    combineLatest([toObservable(this.span), this.acts.changed, this.live.ticks((e) => e.kind === 'estate')]).pipe(
      switchMap(([days]) => this.api.call('listChanges', { query: { days } }).pipe(outcome<Changes>())),
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly changes = computed(() => this.result()?.value);
  /** The point of the address, or the most unusual one. */
  protected readonly chosen = computed(() => {
    if (this.point()) return this.point();
    const points = (this.changes()?.rows ?? []).flatMap((r) => r.points);
    const held = points.filter((p) => p.suspect);
    return (held.length ? held : points).reduce<(typeof points)[number] | undefined>((a, b) => (a && a.score >= b.score ? a : b), undefined)
      ?.id;
  });
  protected readonly row = computed(() => this.changes()?.rows.find((r) => r.points.some((p) => p.id === this.chosen())));
  protected readonly othersWords = computed(() => `${countOf(this.changes()?.others ?? 0, 'other workload')} stayed`);
  protected readonly summary = computed(() => {
    const c = this.changes();
    if (!c) return '';
    const held = c.rows.filter((r) => r.points.some((p) => p.suspect)).length;
    return `${countOf(c.rows.length + c.others, 'workload')} · ${held ? `${held} held` : 'none held'}`;
  });

  protected go(to: { days?: number; point?: string }): void {
    void this.router.navigate([], { queryParams: to, queryParamsHandling: 'merge', replaceUrl: true });
  }
}
