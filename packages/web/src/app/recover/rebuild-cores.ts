import { CdkDrag, type CdkDragEnd, type CdkDragMove } from '@angular/cdk/drag-drop';
import { DOCUMENT } from '@angular/common';
import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { formatBytes, isPartitionOf, leftOn, volumesBack, type Layout } from '@lithodex/core';
import type { ServerDisk, ServerSystem, ServerVolume, UnitDisk } from '@lithodex/kinds';
import { roundStep, volumeName } from '../estate/disk-cores';

const height = 180;
const thinnest = 4;
/** Lines of a name below another take so much. */
const lineHeight = 15;

interface Bed {
  readonly device: string;
  readonly top: number;
  readonly height: number;
  readonly used: number;
  readonly name: string;
  readonly says: string;
  readonly textTop: number;
  readonly bytes: number;
  readonly drags: boolean;
}

interface Core {
  readonly id: string;
  readonly about: string;
  readonly more: string;
  readonly height: number;
  readonly left: string;
  /** Below all that is drawn. */
  readonly leftTop: number;
  readonly beds: readonly Bed[];
}

/** Disks of a server as they were, and those of a unit beside them, upright on one scale. A volume is dragged to another disk, or made larger and smaller by its lower edge. */
@Component({
  selector: 'lx-rebuild-cores',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [CdkDrag],
  templateUrl: './rebuild-cores.html',
  styleUrl: './rebuild-cores.scss',
})
export class RebuildCores {
  private readonly document = inject(DOCUMENT);
  readonly system = input.required<ServerSystem>();
  readonly unit = input.required<string>();
  readonly disks = input.required<readonly UnitDisk[]>();
  readonly layout = input.required<Layout>();
  readonly moved = output<{ device: string; disk: string }>();
  readonly sized = output<{ device: string; bytes: number }>();
  protected readonly height = height;
  /** A size that is being dragged. */
  private readonly pulled = signal<{ device: string; bytes: number } | undefined>(undefined);

  private readonly longest = computed(() => Math.max(1, ...[...this.system().disks, ...this.disks()].map((d) => d.bytes)));
  private readonly back = computed(() => new Map(volumesBack(this.system()).map((n) => [n.volume.device, n])));
  private readonly volumes = computed(() => new Map(this.system().volumes.map((v) => [v.device, v])));
  protected readonly ticks = computed(() => {
    const each = roundStep(this.longest());
    return Array.from({ length: Math.floor(this.longest() / each) + 1 }, (_, i) => ({
      top: this.scale(i * each),
      label: formatBytes(i * each),
    }));
  });

  protected readonly old = computed((): Core[] =>
    this.system().disks.map((disk) => ({
      id: disk.name,
      about: `${formatBytes(disk.bytes)}${disk.table === 'none' ? '' : `, ${disk.table.toUpperCase()}`}`,
      more: disk.serial ? `serial ${disk.serial}` : disk.model,
      height: this.scale(disk.bytes),
      left: '',
      leftTop: 0,
      beds: this.stacked(this.bedsBefore(disk)),
    })),
  );

  protected readonly fresh = computed((): Core[] =>
    this.disks().map((disk) => {
      const left = leftOn(this.layout(), disk);
      const beds = this.stacked(this.bedsNow(disk));
      return {
        id: disk.id,
        about: `${formatBytes(disk.bytes)}${disk.first ? ', starts first' : ''}`,
        more: [disk.port, disk.serial === disk.id ? '' : `serial ${disk.serial}`].filter(Boolean).join(', '),
        height: this.scale(disk.bytes),
        left: left < 0 ? `${formatBytes(-left)} too much` : `${formatBytes(left)} free`,
        leftTop: Math.max(this.scale(disk.bytes), ...beds.map((b) => Math.max(b.top + b.height, b.textTop + 2 * lineHeight))) + 4,
        beds,
      };
    }),
  );

  protected readonly summary = computed(() =>
    this.fresh()
      .map((c) => `${c.id}, ${c.about}: ${c.beds.map((b) => `${b.name} ${b.says}`).join(', ') || 'nothing'}, ${c.left}`)
      .join('. '),
  );

  private scale(bytes: number): number {
    return (bytes / this.longest()) * height;
  }

  private bed(v: ServerVolume, start: number, bytes: number, says: string): Omit<Bed, 'textTop'> {
    const high = Math.max(thinnest, this.scale(bytes));
    return {
      device: v.device,
      top: this.scale(start),
      height: high,
      used: v.used === null ? 0 : Math.min(high, this.scale(v.used)),
      name: volumeName(v),
      says,
      bytes,
      drags: this.back().has(v.device),
    };
  }

  private bedsBefore(disk: ServerDisk): Omit<Bed, 'textTop'>[] {
    return [...this.volumes().values()]
      .flatMap((v) => {
        const part = disk.partitions.find((p) => v.on.some((on) => isPartitionOf(on, disk.name) && on.endsWith(String(p.no))));
        if (!part && !v.on.includes(disk.name)) return [];
        const used = v.used === null ? '' : `${formatBytes(v.used)} of `;
        return [this.bed(v, part?.start ?? 0, v.bytes, `${used}${formatBytes(v.bytes)}${this.back().has(v.device) ? '' : ', left out'}`)];
      })
      .sort((a, b) => a.top - b.top);
  }

  private bedsNow(disk: UnitDisk): Omit<Bed, 'textTop'>[] {
    const placed = this.layout().disks.find((d) => d.disk === disk.id)?.partitions ?? [];
    const pulled = this.pulled();
    return placed.flatMap((p) => {
      const v = 'volume' in p.for ? this.volumes().get(p.for.volume) : undefined;
      if (!v) return [];
      const bytes = pulled?.device === v.device ? pulled.bytes : p.bytes;
      return [this.bed(v, p.start, bytes, formatBytes(bytes))];
    });
  }

  /** Names below one another, however thin what they name. */
  private stacked(beds: readonly Omit<Bed, 'textTop'>[]): Bed[] {
    let free = -4;
    return beds.map((bed) => {
      const textTop = Math.max(bed.top - 2, free);
      free = textTop + 2 * lineHeight;
      return { ...bed, textTop };
    });
  }

  protected pull(event: CdkDragMove, { device, bytes }: Bed): void {
    this.pulled.set({ device, bytes: this.pulledTo(bytes, event.distance.y) });
  }

  private pulledTo(bytes: number, y: number): number {
    const layoutBytes = this.layout()
      .disks.flatMap((d) => d.partitions)
      .find((p) => 'volume' in p.for && p.for.volume === this.pulled()?.device)?.bytes;
    return Math.max(1 << 20, (layoutBytes ?? bytes) + (y / height) * this.longest());
  }

  protected pulledEnd(event: CdkDragEnd, { device }: Bed): void {
    const pulled = this.pulled();
    this.pulled.set(undefined);
    event.source.reset();
    if (pulled) this.sized.emit({ device, bytes: pulled.bytes });
  }

  protected dropped(event: CdkDragEnd, { device }: Bed): void {
    const { x, y } = event.dropPoint;
    event.source.reset();
    const core = this.document
      .elementsFromPoint(x, y)
      .map((e) => e.closest('[data-disk]'))
      .find((e) => e !== null);
    const disk = core?.getAttribute('data-disk');
    if (disk) this.moved.emit({ device, disk });
  }
}
