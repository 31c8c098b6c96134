import { ChangeDetectionStrategy, Component, computed, inject, input, numberAttribute } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { Answered, Ready } from '@lithodex/contract';
import type { SystemPart } from '@lithodex/kinds';
import { formatBytes, formatList, obstacles, replacementFor } from '@lithodex/core';
import { combineLatest, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { Session } from '../data/session';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { DiskCores, volumeName } from './disk-cores';

const partWords: Readonly<Record<SystemPart, string>> = {
  layout: 'Layout of disks and volumes',
  firmware: 'Firmware, and what it starts from',
  loader: 'Loader',
  kernel: 'Kernel with its modules and initramfs',
  mounts: 'What is mounted where',
  hardware: 'Memory and processor',
  network: 'Network cards',
  identity: 'Name of the host',
  clock: 'Time zone',
  packages: 'List of packages',
};

/** Whether a server could be rebuilt on other hardware today, and what that has to be like. */
@Component({
  selector: 'lx-ready-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, DiskCores, StateMark, ...formatPipes],
  templateUrl: './ready-page.html',
  styleUrl: './ready-page.scss',
})
export class ReadyPage {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly id = input.required({ transform: numberAttribute });
  private readonly asked = combineLatest([toObservable(this.id), inject(Live).ticks((e) => e.kind === 'run', 1000)]);
  private readonly result = toSignal(
    this.asked.pipe(switchMap(([id]) => this.api.call('readyToRebuild', { id, query: {} }).pipe(outcome<Answered<'readyToRebuild'>>()))),
  );
  private readonly known = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('workload', { id }).pipe(outcome<Answered<'workload'>>()))),
  );
  protected readonly name = computed(() => this.known()?.value?.name ?? '');
  protected readonly failure = computed(() => this.result()?.failure ?? this.known()?.failure);
  protected readonly ready = computed((): Ready | undefined => this.result()?.value);
  protected readonly system = computed(() => this.ready()?.system ?? undefined);
  protected readonly replacement = computed(() => {
    const system = this.system();
    return system && replacementFor(system);
  });
  protected readonly parts = computed(() => this.ready()?.parts ?? []);
  protected readonly lacking = computed(() => obstacles(this.parts()));
  protected readonly partWords = partWords;
  protected readonly volumeName = volumeName;

  protected readonly firmware = computed(() => {
    const starts = { uefi: 'starts by UEFI', bios: 'starts by BIOS', unknown: 'not known' }[this.system()?.firmware ?? 'unknown'];
    const first = this.system()?.bootEntries[0]?.label;
    return first ? `${starts}, first “${first}”` : starts;
  });
  protected readonly drivers = computed(() => {
    const all = (this.replacement()?.drivers ?? []).map((d) => `${d.driver} for ${formatList(d.serves)}`);
    return all.length ? all.join('; ') : 'none is known';
  });
  protected readonly notYet = computed(() =>
    formatList((this.replacement()?.notYet ?? []).map((v) => `${volumeName(v)} (${formatBytes(v.bytes)})`)),
  );

  /** How the least size of a volume comes about, in words. */
  protected why({ least }: NonNullable<ReturnType<typeof this.replacement>>['disks'][number]['volumes'][number]): string {
    if (least.own === 0) return 'as it is';
    const staged = least.staging ? `, ${formatBytes(least.staging)} to put it together` : '';
    return `${formatBytes(least.content)} of content${staged}, ${formatBytes(least.room)} to work with, ${formatBytes(least.own)} for the file system itself`;
  }

  protected print(): void {
    window.print();
  }
}
