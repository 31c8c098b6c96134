import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { BodyInput, PlatformPlaces, RunningMachine, RunningRow } from '@lithodex/contract';
import { formatBytes, formatDuration } from '@lithodex/core';
import { distinctUntilChanged, map, of, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';

const words: Readonly<Record<RunningMachine['state'], string>> = {
  starting: 'starting',
  running: 'runs from the store',
  copying: 'runs, and is being copied',
  copied: 'runs, and is copied',
  cuttingOver: 'leaves the store',
  dropping: 'is being dropped',
};

/** A machine that runs from the store: how it does, where its disks live, and what can become of it. */
@Component({
  selector: 'lx-running-machine',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Certain, Slot, ...formatPipes],
  templateUrl: './running-machine-card.html',
  styleUrl: './running-machine-card.scss',
})
export class RunningMachineCard {
  private readonly api = inject(Api);
  private readonly session = inject(Session);
  readonly row = input.required<RunningRow>();
  protected readonly pace = signal<number | null>(null);
  protected readonly stopped = signal(false);
  protected readonly dropping = signal(false);
  protected readonly busy = signal(false);
  protected readonly refused = signal('');
  protected readonly paces: SlotOption<number | null>[] = [
    { value: null, label: 'as fast as it goes' },
    ...[10, 50, 200].map((n) => ({ value: n * 1e6, label: `at ${formatBytes(n * 1e6)} a second` })),
  ];
  protected readonly ways: SlotOption<boolean>[] = [
    { value: false, label: 'while it runs', note: 'no stop; not every platform can' },
    { value: true, label: 'stopped for a moment', note: 'off for some seconds, then started again' },
  ];
  protected readonly steers = computed(() => this.session.keeps() && this.row().wish.to !== 'drop');
  private readonly asked = toSignal(
    toObservable(this.row).pipe(
      map((row) => (this.session.keeps() ? row.platform.id : 0)),
      distinctUntilChanged(),
      switchMap((id) => (id ? this.api.call('platformPlaces', { id }).pipe(outcome<PlatformPlaces>()) : of<Outcome<PlatformPlaces>>({}))),
    ),
  );
  protected readonly storages = computed((): SlotOption<string>[] =>
    (this.asked()?.value?.storages ?? [])
      .filter((s) => s.hosts.includes(this.row().host))
      .map((s) => ({ value: s.name, label: s.name, note: `${formatBytes(Math.max(0, s.capacity - s.used))} free` })),
  );
  protected readonly storage = linkedSignal(() => this.storages()[0]?.value ?? '');
  protected readonly problem = computed(() => this.row().now?.problem ?? '');
  protected readonly share = computed(() => {
    const overlay = this.row().now?.overlay;
    return overlay ? Math.min(100, Math.round((overlay.used / overlay.most) * 100)) : 0;
  });
  private readonly age = computed(() => formatDuration(Math.max(0, this.session.now() - this.row().since)));
  protected readonly stateWords = computed(() => {
    const { now, mover } = this.row();
    if (!now) return mover ? 'starting' : 'waits for a mover';
    return `${words[now.state]}, since ${this.age()}`;
  });
  protected readonly lost = computed(() => {
    const { name, now } = this.row();
    return `${name} is stopped and taken away. What it wrote in ${this.age()}, ${formatBytes(now?.overlay.used ?? 0)}, is lost. The point it runs from stays as it is.`;
  });

  protected lives(disk: RunningMachine['disks'][number]): string {
    if (!disk.storage) return 'in the store; what it writes, on the mover';
    if (disk.toCopy === 0) return `on ${disk.storage}`;
    const share = Math.floor((disk.copied / disk.toCopy) * 100);
    return disk.copied === disk.toCopy
      ? `in the store, all of it on ${disk.storage} too`
      : `in the store, ${share} % on ${disk.storage} too (${formatBytes(disk.copied)} of ${formatBytes(disk.toCopy)})`;
  }

  private wish(body: BodyInput<'steerRunning'>): void {
    this.busy.set(true);
    this.refused.set('');
    this.api.call('steerRunning', { id: this.row().taskId, body }).subscribe({
      next: () => {
        this.busy.set(false);
        this.dropping.set(false);
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.refused.set(f.message);
      },
    });
  }

  protected copy(): void {
    this.wish({ to: 'copy', storage: this.storage(), pace: this.pace() });
  }

  protected cutOver(): void {
    const { wish } = this.row();
    if (!('storage' in wish)) return;
    this.wish({ to: 'cutOver', storage: wish.storage, pace: wish.pace, stopped: this.stopped() });
  }

  protected drop(): void {
    this.wish({ to: 'drop' });
  }
}
