import { ChangeDetectionStrategy, Component, computed, input, output, signal } from '@angular/core';
import { parsePath, pathText } from '@lithodex/core';
import { estateBys, type Estate, type EstateBy } from '@lithodex/contract';

type Node = Estate['nodes'][number];

const words: Record<EstateBy, string> = {
  platform: 'by platform',
  host: 'by cluster and host',
  folder: 'by folder',
  storage: 'by storage',
  place: 'by place',
  tag: 'by tag',
  kind: 'by kind',
};

/** One hierarchy of the estate as a tree: how much is in each part, and how much of that nothing protects. */
@Component({
  selector: 'lx-estate-tree',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<select class="field w-100" aria-label="Hierarchy" (change)="byChange.emit(by.value)" #by>
      <option value="">as one list</option>
      @for (b of bys; track b) {
        <option [value]="b" [selected]="b === chosen()">{{ words[b] }}</option>
      }
    </select>
    @if (chosen()) {
      <div class="nodes" role="tree">
        <button type="button" class="node" role="treeitem" [class.on]="!node()" (click)="nodeChange.emit(null)">all of them</button>
        @for (n of shown(); track n.path) {
          <button
            type="button"
            class="node"
            role="treeitem"
            [attr.aria-level]="n.depth + 1"
            [class.on]="node() === n.path"
            [style.padding-left.px]="8 + n.depth * 14"
            [title]="n.name"
            [attr.aria-label]="n.name"
            (click)="choose(n)"
          >
            <span class="twig">{{ parents().has(n.path) ? (closed().has(n.path) ? '▸' : '▾') : '' }}</span>
            <span class="cut grow">{{ n.name || 'none' }}</span>
            @if (n.open) {
              <span class="f num" [title]="n.open + ' unprotected'">{{ n.open }}</span>
            }
            <span class="mute num">{{ n.count }}</span>
          </button>
        } @empty {
          @if (nodes()) {
            <span class="mute small p-2">Nothing has a place in it.</span>
          }
        }
      </div>
    }`,
  styles: `
    :host {
      display: flex;
      flex-direction: column;
      gap: 6px;
      min-height: 0;
      padding: 10px;
    }
    .nodes {
      overflow: auto;
      min-height: 0;
      display: flex;
      flex-direction: column;
    }
    .node {
      display: flex;
      gap: 6px;
      align-items: center;
      border: 0;
      background: none;
      color: inherit;
      font-size: 13px;
      text-align: left;
      padding: 3px 8px;
      border-radius: 6px;
      min-width: 0;
    }
    .node.on {
      background: var(--lapis-soft);
      color: var(--lapis);
      font-weight: 600;
    }
    .twig {
      width: 10px;
      color: var(--ink-3);
    }
  `,
})
export class EstateTree {
  readonly chosen = input<string>();
  /** undefined while they are not known. */
  readonly nodes = input<Estate['nodes']>();
  readonly node = input<string>();
  readonly byChange = output<string>();
  readonly nodeChange = output<string | null>();
  protected readonly bys = estateBys;
  protected readonly words = words;
  protected readonly closed = signal<ReadonlySet<string>>(new Set());
  protected readonly parents = computed(
    () =>
      new Set(
        this.nodes()
          ?.filter((n) => n.depth > 0)
          .map((n) => above(n.path)),
      ),
  );
  protected readonly shown = computed(() => {
    const closed = this.closed();
    return this.nodes()?.filter((n) => {
      for (let at = n.path; parsePath(at).length > 1;) {
        at = above(at);
        if (closed.has(at)) return false;
      }
      return true;
    });
  });

  protected choose(n: Node): void {
    if (this.node() === n.path && this.parents().has(n.path))
      this.closed.update((set) => {
        const next = new Set(set);
        if (!next.delete(n.path)) next.add(n.path);
        return next;
      });
    this.nodeChange.emit(n.path);
  }
}

const above = (path: string) => pathText(parsePath(path).slice(0, -1));
