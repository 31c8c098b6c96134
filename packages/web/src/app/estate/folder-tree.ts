import { ChangeDetectionStrategy, Component, effect, inject, input, model, signal, untracked } from '@angular/core';
import type { TreeRow } from '@lithodex/contract';
import { Api } from '../data/api';
import { formatPipes } from '../ui/format-pipes';

interface Line {
  readonly row: TreeRow;
  readonly depth: number;
}

/** Folders of a point as a tree; every line carries the strip of what became of it since. */
@Component({
  selector: 'lx-folder-tree',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  template: `<div role="tree" aria-label="Folders">
    <div
      class="r"
      role="treeitem"
      tabindex="0"
      [class.on]="path() === ''"
      [attr.aria-selected]="path() === ''"
      (click)="path.set('')"
      (keydown.enter)="path.set('')"
    >
      <span>/</span><span></span><span class="num">{{ bytes() | bytes }}</span>
    </div>
    @for (line of lines(); track line.row.path) {
      <div
        class="r"
        role="treeitem"
        tabindex="0"
        [class.on]="path() === line.row.path"
        [attr.aria-selected]="path() === line.row.path"
        [attr.aria-expanded]="open().has(line.row.path)"
        [style.padding-left.px]="8 + (line.depth + 1) * 14"
        (click)="pick(line)"
        (keydown.enter)="pick(line)"
      >
        <span class="cut" [title]="line.row.name">{{ open().has(line.row.path) ? '▾' : '▸' }} {{ line.row.name }}</span>
        @if (line.row.unread) {
          <i class="small w" [title]="line.row.about">{{ line.row.about ? 'not read' : 'not looked at' }}</i>
        } @else if (line.row.opens || !line.row.strip) {
          <span></span>
        } @else {
          <span class="strip" [title]="title(line.row)">
            @for (part of parts; track part) {
              @if (share(line.row, part); as width) {
                <i [class]="part" [style.width.%]="width"></i>
              }
            }
          </span>
        }
        <span class="num">{{ line.row.size ? (line.row.size | bytes) : '' }}</span>
      </div>
    }
  </div>`,
  styles: `
    .r {
      padding: 3px 8px;
      border-radius: 5px;
      display: grid;
      grid-template-columns: minmax(60px, 1fr) 70px 64px;
      gap: 8px;
      align-items: center;
      cursor: pointer;
      font-size: 13px;
    }
    .r:hover {
      background: var(--sheet-2);
    }
    .on {
      background: var(--lapis-soft) !important;
      font-weight: 600;
    }
    .num {
      text-align: right;
      color: var(--ink-2);
      font-size: 11.5px;
    }
  `,
})
export class FolderTree {
  private readonly api = inject(Api);
  readonly pointId = input.required<string>();
  readonly bytes = input<number>(0);
  readonly path = model.required<string>();
  protected readonly open = signal<ReadonlySet<string>>(new Set());
  protected readonly lines = signal<readonly Line[]>([]);

  constructor() {
    effect(() => {
      const id = this.pointId();
      untracked(() => {
        const reopen = [...this.open()];
        this.lines.set([]);
        this.open.set(new Set());
        this.load(id, '', () => {
          for (const path of reopen.sort()) this.expand(path);
          this.reveal();
        });
      });
    });
    effect(() => {
      this.path();
      untracked(() => {
        this.reveal();
      });
    });
  }

  /** Opens what is above the folder that is looked at, one after the other as they come. */
  private reveal(): void {
    const parts = this.path().split('/');
    const above = parts.slice(0, -1).map((_, depth) => parts.slice(0, depth + 1).join('/'));
    const next = above.find((path) => !this.open().has(path));
    if (next !== undefined)
      this.expand(next, () => {
        this.reveal();
      });
  }

  private load(id: string, path: string, then: () => void = () => undefined): void {
    this.api.call('tree', { id, query: { path, limit: 500 } }).subscribe({
      next: ({ rows }) => {
        if (this.pointId() !== id) return;
        const depth = path === '' ? 0 : path.split('/').length;
        const fresh = rows.filter((r) => r.kind === 'folder' || r.opens).map((row) => ({ row, depth }));
        this.lines.update((lines) => {
          if (path === '') return fresh;
          const at = lines.findIndex((l) => l.row.path === path);
          return at < 0 ? lines : [...lines.slice(0, at + 1), ...fresh, ...lines.slice(at + 1)];
        });
        then();
      },
      error: () => undefined,
    });
  }

  private expand(path: string, then?: () => void): void {
    if (this.open().has(path) || !this.lines().some((l) => l.row.path === path)) return;
    this.open.update((open) => new Set([...open, path]));
    this.load(this.pointId(), path, then);
  }

  protected pick({ row }: Line): void {
    const wasThere = this.path() === row.path;
    this.path.set(row.path);
    if (!this.open().has(row.path)) this.expand(row.path);
    else if (wasThere) {
      this.open.update((open) => new Set([...open].filter((p) => p !== row.path && !p.startsWith(`${row.path}/`))));
      this.lines.update((lines) => lines.filter((l) => !l.row.path.startsWith(`${row.path}/`)));
    }
  }

  protected readonly parts = ['suspect', 'gone', 'changed'] as const;

  protected share(row: TreeRow, part: (typeof this.parts)[number]): number {
    return row.strip && row.items ? Math.max(row.strip[part] ? 3 : 0, (row.strip[part] / row.items) * 100) : 0;
  }

  protected title(row: TreeRow): string {
    const s = row.strip;
    return s ? `since then: ${s.same} the same, ${s.changed} changed, ${s.gone} gone, ${s.suspect} suspect` : '';
  }
}
