import { ChangeDetectionStrategy, Component, computed, inject, input, numberAttribute, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { Answered, BodyInput, Ready, RestorePlan } from '@lithodex/contract';
import { formatMoment, placeOfVolume, placeVolume, proposeLayout, volumesBack, type Layout } from '@lithodex/core';
import { debounceTime, of, switchMap, timer } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { volumeName } from '../estate/disk-cores';
import { Checks } from '../ui/checks';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { readEdits, writeEdits, type Edit } from './layout-edits';
import { RebuildCores } from './rebuild-cores';

const lookEveryMs = 10_000;
const gigabyte = 1e9;

/** A server is made anew on a unit: from which point, which volume onto which disk, and what that takes. */
@Component({
  selector: 'lx-rebuild-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, RebuildCores, Checks, Slot, StateMark, ...formatPipes],
  templateUrl: './rebuild-page.html',
  styleUrls: ['./sheet-page.scss', './rebuild-page.scss'],
})
export class RebuildPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly session = inject(Session);
  readonly workload = input(0, { transform: (v: unknown) => numberAttribute(v, 0) });
  readonly unit = input<string>();
  readonly point = input<string>();
  /** What was changed of the proposed layout. */
  readonly placed = input<string>();

  private readonly units = toSignal(
    timer(0, lookEveryMs).pipe(switchMap(() => this.api.call('listUnits').pipe(outcome<Answered<'listUnits'>>()))),
  );
  private readonly asked = computed(() => ({ id: this.workload(), point: this.point() }));
  private readonly known = toSignal(
    toObservable(this.asked).pipe(
      switchMap(({ id, point }) =>
        id ? this.api.call('readyToRebuild', { id, query: { point } }).pipe(outcome<Ready>()) : of<Outcome<Ready>>({}),
      ),
    ),
  );
  protected readonly ready = computed(() => this.known()?.value);
  protected readonly system = computed(() => this.ready()?.system ?? undefined);
  protected readonly failure = computed(() => this.units()?.failure ?? this.known()?.failure ?? this.planned()?.failure);

  protected readonly none = computed(() => ({
    servers: this.units()?.value?.servers.length === 0,
    units: this.units()?.value?.rows.length === 0,
  }));
  protected readonly servers = computed((): SlotOption<number>[] => [
    ...(this.workload() ? [] : [{ value: 0, label: 'a server' }]),
    ...(this.units()?.value?.servers ?? []).map((w) => ({ value: w.id, label: w.name })),
  ]);
  protected readonly name = computed(() => (this.workload() ? (this.servers().find((s) => s.value === this.workload())?.label ?? '') : ''));
  protected readonly points = computed((): SlotOption<string>[] =>
    (this.ready()?.points ?? []).map((p) => ({
      value: p.id,
      label: formatMoment(p.moment, this.session.zone()),
      ...(!p.whole && { note: 'lacks parts that it starts by' }),
    })),
  );
  protected readonly pointId = computed(() => this.ready()?.point?.id ?? '');
  protected readonly unitOptions = computed((): SlotOption<string>[] => [
    ...(this.unit() ? [] : [{ value: '', label: 'a unit' }]),
    ...(this.units()?.value?.rows ?? []).map((u) => ({ value: u.name, label: u.name, note: u.present ? 'answers now' : 'silent' })),
  ]);
  /** With the disk that it starts from before the others. */
  protected readonly machine = computed(() => {
    const found = (this.units()?.value?.rows ?? []).find((u) => u.name === this.unit());
    return found && { ...found, facts: { ...found.facts, disks: found.facts.disks.toSorted((a, b) => Number(b.first) - Number(a.first)) } };
  });

  private readonly edits = computed(() => readEdits(this.placed() ?? ''));
  /** Undefined while server or unit are not chosen. */
  protected readonly layout = computed((): Layout | undefined => {
    const [system, unit] = [this.system(), this.machine()];
    if (!system || !unit) return undefined;
    return this.edits().reduce((layout, e) => placeVolume(layout, e.device, e.disk, e.bytes), proposeLayout(system, unit.facts));
  });
  protected readonly rows = computed(() => {
    const [system, layout] = [this.system(), this.layout()];
    if (!system || !layout) return [];
    return volumesBack(system).map(({ volume, least }) => {
      const place = placeOfVolume(layout, volume.device);
      return {
        device: volume.device,
        name: system.volumes.filter((v) => v.device === volume.device).map(volumeName)[0] ?? volume.device,
        was: volume.bytes,
        least: least.bytes,
        disk: place?.disk ?? '',
        bytes: place?.bytes ?? volume.bytes,
        size: ((place?.bytes ?? volume.bytes) / gigabyte).toFixed(2),
      };
    });
  });
  /** Disks that would be written to and are not empty. */
  protected readonly used = computed(() =>
    (this.machine()?.facts.disks ?? []).filter((d) => d.holds !== '' && (this.layout()?.disks ?? []).some((l) => l.disk === d.id)),
  );
  protected readonly erase = signal<ReadonlySet<string>>(new Set());

  protected readonly identities: SlotOption<boolean>[] = [
    { value: true, label: 'itself' },
    { value: false, label: 'a clone with identities of its own' },
  ];
  protected readonly asItself = signal(true);
  protected readonly reason = signal('');
  protected readonly agreed = signal<ReadonlySet<string>>(new Set());
  protected readonly problem = signal('');
  protected readonly busy = signal(false);

  private readonly body = computed((): BodyInput<'planRestore'> | null => {
    const [pointId, unit, layout] = [this.pointId(), this.machine()?.name, this.layout()];
    if (!pointId || !unit || !layout) return null;
    return {
      name: `${this.name()} on ${unit}`.slice(0, 110),
      picks: [{ pointId, path: '' }],
      destination: {
        to: 'unit',
        unit,
        layout: this.edits().length && layout.disks.length ? layout.disks.map((d) => ({ ...d, partitions: [...d.partitions] })) : null,
        erase: [...this.erase()],
        asItself: this.asItself(),
      },
      rescue: false,
    };
  });
  private readonly bodyText = computed(() => JSON.stringify(this.body()));
  private readonly planned = toSignal(
    toObservable(this.bodyText).pipe(
      debounceTime(200),
      switchMap((text) => {
        const body = JSON.parse(text) as BodyInput<'planRestore'> | null;
        return body ? this.api.call('planRestore', { body }).pipe(outcome<RestorePlan>()) : of<Outcome<RestorePlan>>({});
      }),
    ),
  );
  protected readonly plan = computed(() => (this.body() ? this.planned()?.value : undefined));
  protected readonly looks = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level === 'look'));
  protected readonly quiet = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level !== 'look'));
  protected readonly open = computed(() => this.looks().filter((c) => !this.agreed().has(c.code + c.text)));
  protected readonly missing = computed(() => {
    if (!this.plan()) return 'when server and unit are chosen';
    if (this.quiet().some((c) => c.level === 'stop')) return 'when nothing stands in the way';
    if (this.open().length) return this.open().length === 1 ? 'after 1 answer' : `after ${this.open().length} answers`;
    return this.reason().trim().length < 3 ? 'when you say why' : '';
  });

  protected choose(queryParams: { workload?: number; unit?: string; point?: string | null }): void {
    this.erase.set(new Set());
    void this.router.navigate([], { queryParams: { ...queryParams, placed: null }, queryParamsHandling: 'merge', replaceUrl: true });
  }

  /** A volume goes somewhere else, or gets another size; `disk` null: it is left out. */
  protected put(device: string, change: Partial<Omit<Edit, 'device'>>): void {
    const row = this.rows().find((r) => r.device === device);
    if (!row) return;
    const edit: Edit = { device, disk: row.disk || null, bytes: row.bytes, ...change };
    const edits = [...this.edits().filter((e) => e.device !== device), edit];
    void this.router.navigate([], { queryParams: { placed: writeEdits(edits) }, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected putSize(device: string, text: string): void {
    const bytes = Number(text.replace(',', '.')) * gigabyte;
    if (bytes > 0 && Number.isFinite(bytes)) this.put(device, { bytes });
  }

  protected asProposed(): void {
    void this.router.navigate([], { queryParams: { placed: null }, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected agree({ code, text }: RestorePlan['checks'][number]): void {
    this.agreed.update((a) => new Set([...a, code + text]));
  }

  protected mayErase(id: string, may: boolean): void {
    this.erase.update((all) => new Set([...all].filter((d) => d !== id).concat(may ? [id] : [])));
  }

  protected start(trial: boolean): void {
    const body = this.body();
    if (!body) return;
    this.busy.set(true);
    this.problem.set('');
    const reason = this.reason().trim() || 'trial without writing';
    this.api.call('startRestore', { body: { ...body, reason, trial } }).subscribe({
      next: ({ runId }) => void this.router.navigate(['/runs', runId]),
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
