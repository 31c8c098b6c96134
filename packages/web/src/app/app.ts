import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { RouterOutlet } from '@angular/router';
import { Preferences } from './data/preferences';

@Component({ selector: 'lx-root', changeDetection: ChangeDetectionStrategy.OnPush, imports: [RouterOutlet], template: '<router-outlet />' })
export class App {
  protected readonly preferences = inject(Preferences);
}
