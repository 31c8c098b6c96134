import { afterNextRender, Directive, ElementRef, inject } from '@angular/core';

/** Puts the focus on the field of a step as soon as the step is on the screen. */
@Directive({ selector: '[lxFocus]' })
export class Focus {
  constructor() {
    const field = inject<ElementRef<HTMLElement>>(ElementRef).nativeElement;
    afterNextRender(() => {
      field.focus();
    });
  }
}
