import { CdkVirtualScrollViewport } from '@angular/cdk/scrolling';
import { Directive, effect, inject, input, untracked } from '@angular/core';

/** Keeps the row the keys stand on within the part of a long list that is seen. */
@Directive({ selector: 'cdk-virtual-scroll-viewport[lxInView]' })
export class InView {
  private readonly viewport = inject(CdkVirtualScrollViewport);
  /** Index of the row. */
  readonly lxInView = input.required<number>();
  /** Height of every row, px. */
  readonly itemSize = input.required<number, unknown>({ transform: Number });

  constructor() {
    effect(() => {
      const top = this.lxInView() * this.itemSize();
      untracked(() => {
        const seen = this.viewport.measureScrollOffset('top');
        const height = this.viewport.getViewportSize();
        if (top < seen) this.viewport.scrollToOffset(top);
        else if (height && top + this.itemSize() > seen + height) this.viewport.scrollToOffset(top + this.itemSize() - height);
      });
    });
  }
}
