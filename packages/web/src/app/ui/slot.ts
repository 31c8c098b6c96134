import { ChangeDetectionStrategy, Component, computed, type ElementRef, input, model, output, signal, viewChild } from '@angular/core';
import { NgbDropdownModule } from '@ng-bootstrap/ng-bootstrap/dropdown';

export interface SlotOption<T> {
  readonly value: T;
  readonly label: string;
  readonly note?: string;
}

/** Of a long list so many are shown; typing finds the others. */
const mostShown = 200;

/** A slot of a sentence: opens in place, lists its choices, takes typing to filter. Enter, arrows and Esc work. */
@Component({
  selector: 'lx-slot',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [NgbDropdownModule],
  template: `<span ngbDropdown #menu="ngbDropdown" container="body" (openChange)="opened($event)">
    <button type="button" class="slot" ngbDropdownToggle [disabled]="disabled()" [attr.aria-label]="label() + ': ' + shown()">
      {{ shown() }}
    </button>
    <span ngbDropdownMenu class="menu">
      @if (options().length > 8 || free()) {
        <input
          #box
          class="field w-100 mb-1"
          [attr.aria-label]="'Filter ' + label()"
          [placeholder]="free() || 'type to filter'"
          [value]="typed()"
          (input)="typed.set(box.value)"
          (keydown.enter)="take(box.value); menu.close(); $event.preventDefault()"
        />
      }
      <span class="choices">
        @for (option of fitting().slice(0, mostShown); track option.label) {
          <button type="button" ngbDropdownItem [class.active]="option.value === value()" (click)="choose(option.value); menu.close()">
            {{ option.label }}
            @if (option.note) {
              <small class="mute">{{ option.note }}</small>
            }
          </button>
        } @empty {
          <span class="mute px-2">{{ free() ? 'Enter takes what you typed' : 'nothing fits' }}</span>
        }
        @if (more(); as n) {
          <span class="mute px-2">{{ n }} more: type to filter</span>
        }
      </span>
    </span>
  </span>`,
  styles: `
    .slot {
      border: 0;
      background: none;
      border-bottom: 1.5px solid var(--lapis-line);
      font: inherit;
      font-weight: 600;
      color: var(--lapis);
      padding: 0 2px;
    }
    .slot::after {
      display: none;
    }
    .slot:hover:not(:disabled),
    .show > .slot {
      background: var(--lapis-soft);
      border-radius: 4px;
    }
    .slot:disabled {
      color: var(--ink);
      border-bottom-color: transparent;
    }
    .menu {
      padding: 6px;
      min-width: 180px;
      font-size: 13px;
      --bs-dropdown-bg: var(--sheet);
      --bs-dropdown-link-active-bg: var(--lapis);
      --bs-dropdown-link-active-color: var(--on-lapis);
      --bs-dropdown-link-color: var(--ink);
      --bs-dropdown-link-hover-bg: var(--lapis-soft);
    }
    .active small {
      color: inherit;
    }
    .choices {
      display: block;
      max-height: 280px;
      overflow: auto;
    }
  `,
})
export class Slot<T> {
  readonly label = input.required<string>();
  readonly options = input.required<readonly SlotOption<T>[]>();
  readonly value = model.required<T>();
  /** Text shown instead of the label of the chosen option. */
  readonly text = input<string>();
  readonly disabled = input(false);
  /** Placeholder; when given, other text than the options may be typed and is handed to {@link entered}. */
  readonly free = input('');
  readonly entered = output<string>();
  protected readonly typed = signal('');
  private readonly box = viewChild<ElementRef<HTMLInputElement>>('box');
  protected readonly shown = computed(() => this.text() ?? this.options().find((o) => o.value === this.value())?.label ?? 'choose');
  protected readonly fitting = computed(() => {
    const text = this.typed().toLowerCase();
    return this.options().filter((o) => o.label.toLowerCase().includes(text));
  });

  protected readonly mostShown = mostShown;
  /** Choices that fit and are not shown. */
  protected readonly more = computed(() => Math.max(0, this.fitting().length - mostShown));

  protected opened(open: boolean): void {
    this.typed.set('');
    if (open) setTimeout(() => this.box()?.nativeElement.focus());
  }

  protected choose(value: T): void {
    this.value.set(value);
  }

  protected take(text: string): void {
    const only = this.fitting();
    if (this.free() && text.trim()) this.entered.emit(text.trim());
    else if (only[0]) this.choose(only[0].value);
  }
}
