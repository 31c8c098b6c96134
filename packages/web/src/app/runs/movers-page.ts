import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { KnownMover } from '@lithodex/contract';
import { formatFirst, formatRate } from '@lithodex/core';
import { combineLatest, of, startWith, Subject, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { AtOnce } from '../ui/at-once';
import { formatPipes } from '../ui/format-pipes';
import { Plot } from '../ui/plot';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { AskingMovers } from './asking-movers';
import { InviteMover } from './invite-mover';
import { hostCharts } from './host-charts';

const againMs = 10_000;

/** The movers: who is there, what their hosts are busy with, and how much they may do. */
@Component({
  selector: 'lx-movers-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, AskingMovers, AtOnce, Plot, Slot, StateMark, InviteMover, ...formatPipes],
  template: `<div class="page scroll">
      <div class="row-line">
        <h1>Movers</h1>
        <a class="small" routerLink="/runs">Runs</a>
        <span class="grow"></span>
        @if (session.keeps()) {
          <button type="button" class="act go" (click)="inviting.set(true)">Let a mover in</button>
        }
      </div>
      <lx-asking-movers (admitted)="changed.next()" />
      @if (movers()?.failure ?? problem(); as f) {
        <div class="problem" role="alert">{{ f.message }}</div>
      }
      <div class="sheet">
        <table class="list">
          <thead>
            <tr>
              <th></th>
              <th>Mover</th>
              <th>Host</th>
              <th class="right">Processors</th>
              <th class="right">Memory</th>
              <th class="right">Network in, out</th>
              <th class="right">Disks read, written</th>
              <th class="right">Running</th>
              <th>At once</th>
              <th></th>
            </tr>
          </thead>
          <tbody>
            @for (m of rows(); track m.name) {
              <tr [class.on]="mover() === m.name">
                <td><lx-mark [state]="m.present ? (m.drained ? 'stopped' : 'fine') : 'absent'" /></td>
                <td>
                  <a routerLink="." [queryParams]="{ mover: mover() === m.name ? null : m.name }"
                    ><b>{{ m.name }}</b></a
                  >
                  <div class="small mute">
                    @if (!m.present) {
                      <span class="w" [title]="m.lastSeen | exact">silent since {{ m.lastSeen | ago }}</span
                      >;
                    }
                    {{ m.present ? (m.drained ? 'drained; ' : 'at work; ') : '' }}may {{ m.duties.join(', ') }};
                    @if (m.reads.length) {
                      alone reads {{ some(m.reads) }};
                    }
                    in
                    <lx-slot
                      [label]="'place of ' + m.name"
                      [options]="places()"
                      [value]="m.place"
                      [text]="m.place || 'a place nobody named'"
                      (valueChange)="change(m, { place: $event })"
                      free="or type where"
                      (entered)="change(m, { place: $event })"
                      [disabled]="!session.keeps()"
                    />
                  </div>
                </td>
                <td class="small">{{ m.hardware.system }}<br />{{ m.hardware.processors }} processors, {{ m.hardware.memory | bytes }}</td>
                <td class="right num">{{ m.latest.processor | share }}</td>
                <td class="right num">{{ m.latest.memory | share }}</td>
                <td class="right num small">{{ rate(m.latest.received) }}<br />{{ rate(m.latest.sent) }}</td>
                <td class="right num small">{{ rate(m.latest.read) }}<br />{{ rate(m.latest.written) }}</td>
                <td class="right num">{{ m.running }}</td>
                <td>
                  <lx-at-once
                    [label]="'tasks at once of ' + m.name"
                    [limit]="m.tasks"
                    (limitChange)="change(m, { tasks: $event ?? 16 })"
                    [disabled]="!session.keeps()"
                  />
                </td>
                <td class="right">
                  @if (session.keeps()) {
                    @if (m.present || m.drained) {
                      <button type="button" class="act sm" (click)="change(m, { drained: !m.drained })">
                        {{ m.drained ? 'Give it work again' : 'Drain for maintenance' }}
                      </button>
                    }
                    @if (!m.present) {
                      <button type="button" class="act sm" title="With its token: it comes back by a new code only" (click)="forget(m)">
                        Forget
                      </button>
                    }
                  }
                </td>
              </tr>
            } @empty {
              <tr>
                <td colspan="10" class="mute">{{ movers()?.value ? 'No mover has come yet.' : '' }}</td>
              </tr>
            }
          </tbody>
        </table>
      </div>
      @if (drained(); as d) {
        <p class="small mute m-0">{{ d }}</p>
      }
      @if (charts(); as c) {
        <div class="sheet charts">
          <h2>{{ mover() }}, the last 24 hours</h2>
          @for (chart of c; track chart.label) {
            <div class="small mute">{{ chart.label }}</div>
            <lx-plot [traces]="chart.traces" [layout]="chart.layout" [label]="chart.label" [height]="150" />
          } @empty {
            <p class="mute m-0">Nothing was measured in this time.</p>
          }
        </div>
      }
    </div>
    @if (inviting()) {
      <lx-invite-mover (closed)="inviting.set(false)" />
    }`,
  styles: `
    :host {
      display: block;
      height: 100%;
    }
    .charts {
      padding: 12px 14px;
    }
  `,
})
export class MoversPage {
  protected readonly some = (names: readonly string[]) => formatFirst(names, 3);
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** From the address: whose figures are shown over time. */
  readonly mover = input<string>();
  protected readonly changed = new Subject<void>();
  private readonly often = combineLatest([timer(0, againMs), this.changed.pipe(startWith(undefined))]);
  protected readonly movers = toSignal(this.often.pipe(switchMap(() => this.api.call('listMovers').pipe(outcome()))));
  private readonly samples = toSignal(
    combineLatest([toObservable(this.mover), this.often]).pipe(
      switchMap(([id]) => (id ? this.api.call('moverSamples', { id }).pipe(outcome()) : of(undefined))),
    ),
  );
  protected readonly rows = computed(() => this.movers()?.value?.rows ?? []);
  protected readonly charts = computed(() => {
    const rows = this.samples()?.value?.rows;
    return rows && this.mover() ? hostCharts(rows, this.session.zone()) : undefined;
  });
  protected readonly drained = computed(() => {
    const busy = this.rows().filter((m) => m.drained && m.running);
    return busy.map((m) => `${m.name} ends what it has begun (${m.running}), then it can be stopped.`).join(' ');
  });
  private readonly estate = toSignal(this.api.call('estateValues').pipe(outcome()));
  /** Places that sources have, to choose from: work there is given to movers there first. */
  protected readonly places = computed((): SlotOption<string>[] => [
    { value: '', label: 'a place nobody named', note: 'it takes what waits longest' },
    ...(this.estate()?.value?.fields['location'] ?? []).filter(Boolean).map((place) => ({ value: place, label: place })),
  ]);
  protected readonly inviting = signal(false);
  protected readonly problem = signal<ApiFailure | null>(null);

  protected rate(bytesPerSecond: number | null): string {
    return bytesPerSecond === null ? 'not known' : formatRate(bytesPerSecond);
  }

  protected change(m: KnownMover, part: Partial<Pick<KnownMover, 'drained' | 'tasks' | 'place'>>): void {
    this.done(this.api.call('changeMover', { id: m.name, body: { drained: m.drained, tasks: m.tasks, place: m.place, ...part } }));
  }

  protected forget(m: KnownMover): void {
    if (this.mover() === m.name) void this.router.navigate([], { queryParams: {} });
    this.done(this.api.call('forgetMover', { id: m.name }));
  }

  private done(act: ReturnType<Api['call']>): void {
    this.problem.set(null);
    act.subscribe({
      next: () => {
        this.changed.next();
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure);
      },
    });
  }
}
