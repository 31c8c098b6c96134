import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { ServerDisk, ServerVolume } from '@lithodex/kinds';
import { formatBytes, isPartitionOf, type Replacement } from '@lithodex/core';

const height = 300;
const top = 64;
const left = 56;
const width = 76;
const step = 250;
/** What is thinner can not be seen or pointed at. */
const thinnest = 3;

interface Bed {
  readonly y: number;
  readonly height: number;
  readonly used: number;
  readonly name: string;
  readonly says: string;
  readonly textY: number;
  readonly out: boolean;
}

/** A round length of about a fifth of the longest. */
export function roundStep(longest: number): number {
  const power = 10 ** Math.floor(Math.log10(longest / 4));
  return [1, 2, 5, 10].map((n) => n * power).find((n) => longest / n <= 6)!;
}

export const volumeName = (v: Pick<ServerVolume, 'mount' | 'label' | 'fileSystem' | 'device'>): string =>
  v.mount || (v.fileSystem === 'swap' ? 'swap' : v.label || v.device);

/** The disks of a server, upright on one scale, their volumes as beds; a line across shows what a disk in the place of each needs at least. */
@Component({
  selector: 'lx-disk-cores',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<svg [attr.viewBox]="'0 0 ' + all() + ' ' + (top + height + 18)" [attr.width]="all()" role="img" [attr.aria-label]="summary()">
    @for (t of ticks(); track t.y) {
      <line [attr.x1]="left" [attr.x2]="all()" [attr.y1]="t.y" [attr.y2]="t.y" stroke="var(--row)" />
      <text [attr.x]="left - 8" [attr.y]="t.y + 4" class="axis" text-anchor="end">{{ t.label }}</text>
    }
    @for (c of cores(); track c.disk.name) {
      <text [attr.x]="c.x" y="16" class="name">{{ c.disk.name }}</text>
      <text [attr.x]="c.x" y="33" class="says">{{ c.about }}</text>
      <text [attr.x]="c.x" y="49" class="says">{{ c.serial }}</text>
      <rect [attr.x]="c.x" [attr.y]="top" [attr.width]="width" [attr.height]="c.height" fill="var(--sheet-2)" stroke="var(--line-2)" />
      @for (b of c.beds; track b.name) {
        <g>
          <title>{{ b.name }}: {{ b.says }}</title>
          <rect
            [attr.x]="c.x"
            [attr.y]="b.y"
            [attr.width]="width"
            [attr.height]="b.height"
            fill="var(--sheet)"
            stroke="var(--ink-2)"
            [attr.stroke-dasharray]="b.out ? '3 2' : null"
          />
          <rect
            [attr.x]="c.x + 1"
            [attr.y]="b.y + 1"
            [attr.width]="width - 2"
            [attr.height]="b.used"
            fill="var(--band)"
            [attr.opacity]="b.out ? 0.35 : 1"
          />
          <text [attr.x]="c.x + width + 10" [attr.y]="b.textY" class="bed">{{ b.name }}</text>
          <text [attr.x]="c.x + width + 10" [attr.y]="b.textY + 14" class="says">{{ b.says }}</text>
        </g>
      }
      @if (c.least !== null) {
        <line
          [attr.x1]="c.x - 7"
          [attr.x2]="c.x + width + 7"
          [attr.y1]="c.least"
          [attr.y2]="c.least"
          stroke="var(--lapis)"
          stroke-width="3"
          stroke-linecap="round"
        >
          <title>A disk in its place needs at least {{ c.leastSays }}</title>
        </line>
      }
    }
  </svg>`,
  styles: `
    :host {
      display: block;
      overflow-x: auto;
    }
    text {
      font-size: 11.5px;
      fill: var(--ink-2);
    }
    .name,
    .bed {
      font-weight: 600;
      fill: var(--ink);
    }
    .name {
      font-size: 13px;
    }
  `,
})
export class DiskCores {
  readonly disks = input.required<readonly ServerDisk[]>();
  readonly volumes = input.required<readonly ServerVolume[]>();
  readonly replacement = input.required<Replacement>();
  protected readonly height = height;
  protected readonly top = top;
  protected readonly left = left;
  protected readonly width = width;

  protected readonly longest = computed(() => Math.max(...this.disks().map((d) => d.bytes), 1));
  protected readonly all = computed(() => left + this.disks().length * step);
  protected readonly ticks = computed(() => {
    const each = roundStep(this.longest());
    return Array.from({ length: Math.floor(this.longest() / each) + 1 }, (_, i) => ({
      y: top + this.scale(i * each),
      label: formatBytes(i * each),
    }));
  });
  protected readonly summary = computed(() =>
    this.cores()
      .map(
        (c) =>
          `${c.disk.name}, ${c.about}: ${c.beds.map((b) => `${b.name} ${b.says}`).join(', ')}${c.least === null ? '' : `; needs at least ${c.leastSays}`}`,
      )
      .join('. '),
  );
  protected readonly cores = computed(() =>
    this.disks().map((disk, i) => {
      const needed = this.replacement().disks.find((d) => d.now.name === disk.name);
      return {
        disk,
        x: left + i * step,
        height: this.scale(disk.bytes),
        about: [formatBytes(disk.bytes), disk.table === 'none' ? 'no table' : disk.table.toUpperCase()].join(', '),
        serial: disk.serial ? `serial ${disk.serial}` : disk.model,
        beds: this.bedsOf(disk),
        least: needed ? top + this.scale(Math.min(needed.least, this.longest())) : null,
        leastSays: needed ? formatBytes(needed.least) : '',
      };
    }),
  );

  private scale(bytes: number): number {
    return (bytes / this.longest()) * height;
  }

  private bedsOf(disk: ServerDisk): Bed[] {
    let free = top - 6;
    return this.volumes()
      .filter((v) => v.on.some((on) => on === disk.name || isPartitionOf(on, disk.name)))
      .map((v) => ({
        v,
        start: disk.partitions.find((p) => v.on.some((on) => isPartitionOf(on, disk.name) && on.endsWith(String(p.no))))?.start ?? 0,
      }))
      .sort((a, b) => a.start - b.start)
      .map(({ v, start }): Bed => {
        const y = top + this.scale(start);
        const high = Math.max(thinnest, this.scale(v.bytes));
        const textY = Math.max(y + 12, free + 18);
        free = textY + 14;
        const out = !v.taken && v.fileSystem !== 'swap';
        const used = v.used === null ? '' : `${formatBytes(v.used)} of `;
        return {
          y,
          height: high,
          used: v.used === null ? 0 : Math.max(0, Math.min(high - 2, this.scale(v.used))),
          name: volumeName(v),
          says: `${used}${formatBytes(v.bytes)}${v.fileSystem === 'swap' ? '' : `, ${v.fileSystem}`}${out ? ', left out' : ''}`,
          textY,
          out,
        };
      });
  }
}
