import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { DateTime } from 'luxon';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Picks } from '../data/picks';
import { Session } from '../data/session';
import { Slot, type SlotOption } from '../ui/slot';
import type { Destination } from './kind-parts';

const form = /^[A-Za-z0-9][A-Za-z0-9._-]{1,253}[A-Za-z0-9]$/;

/** The part of the restore sentence that says which bucket of which storage, below which prefix, and in which class. */
@Component({
  selector: 'lx-bucket-place',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<lx-slot
      label="storage"
      [options]="storages()"
      [value]="system()"
      [text]="system() === null ? 'choose a storage' : undefined"
      (valueChange)="system.set($event)"
    />, into the
    <lx-slot label="state" [options]="states" [value]="make()" (valueChange)="make.set($event)" />
    <input
      class="field num"
      aria-label="Bucket"
      list="buckets-there"
      placeholder="bucket"
      [ngModel]="bucket()"
      (ngModelChange)="bucket.set($event)"
    />
    <datalist id="buckets-there">
      @for (b of there(); track b) {
        <option [value]="b"></option>
      }
    </datalist>
    <span
      >, with
      <input class="field num" aria-label="Prefix" placeholder="nothing" [ngModel]="prefix()" (ngModelChange)="prefix.set($event)" />
      before each key, kept
    </span>
    <lx-slot label="class" [options]="classes" [value]="kept()" (valueChange)="kept.set($event)" />, as it was
    <lx-slot label="time" [options]="times" [value]="toSecond()" (valueChange)="toSecond.set($event)" />
    @if (toSecond()) {
      <input
        class="field num"
        type="datetime-local"
        step="1"
        aria-label="Second"
        [ngModel]="second()"
        (ngModelChange)="second.set($event)"
      />
    }`,
})
export class BucketPlace {
  private readonly api = inject(Api);
  private readonly picks = inject(Picks);
  private readonly session = inject(Session);
  readonly changed = input.required<(destination: Destination | null) => void>();
  private readonly systems = toSignal(this.api.call('listSystems').pipe(outcome()));
  private readonly all = computed(() => (this.systems()?.value?.rows ?? []).filter((s) => s.address.kind === 'bucket'));
  protected readonly storages = computed((): SlotOption<number>[] => this.all().map((s) => ({ value: s.id, label: s.name })));
  protected readonly there = computed(
    () =>
      this.all()
        .find((s) => s.id === this.system())
        ?.workloads.map((w) => w.name) ?? [],
  );
  protected readonly states: SlotOption<boolean>[] = [
    { value: false, label: 'bucket' },
    { value: true, label: 'new bucket', note: 'made where it is not there' },
  ];
  protected readonly classes: SlotOption<string>[] = [
    { value: '', label: 'in the class each had' },
    { value: 'STANDARD', label: 'for everyday use' },
    { value: 'STANDARD_IA', label: 'for seldom use' },
    { value: 'GLACIER', label: 'in an archive', note: 'has to be thawed before it can be read' },
  ];
  protected readonly times: SlotOption<boolean>[] = [
    { value: false, label: 'at the moment of the point' },
    { value: true, label: 'at the second', note: 'by the older versions that the point holds' },
  ];
  protected readonly toSecond = signal(false);
  /** As the browser gives it, in the zone of the person. */
  protected readonly second = signal('');
  private readonly at = computed(() => {
    const at = DateTime.fromISO(this.second(), { zone: this.session.zone() }).endOf('second');
    return this.toSecond() && at.isValid ? at.toMillis() : null;
  });
  protected readonly system = signal<number | null>(null);
  protected readonly bucket = signal(this.picks.items()[0]?.workload ?? '');
  protected readonly prefix = signal('');
  protected readonly make = signal(false);
  protected readonly kept = signal('');

  constructor() {
    effect(() => {
      // the only one there is needs no choice
      const [only, ...others] = this.storages();
      if (this.system() === null && only && !others.length) this.system.set(only.value);
    });
    effect(() => {
      const [systemId, bucket] = [this.system(), this.bucket().trim()];
      const said = systemId !== null && form.test(bucket) && this.toSecond() === (this.at() !== null);
      const rest = { prefix: this.prefix(), class: this.kept(), make: this.make(), at: this.at() };
      this.changed()(said ? { to: 'bucket', systemId, bucket, ...rest } : null);
    });
  }
}
