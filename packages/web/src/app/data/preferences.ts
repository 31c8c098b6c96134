import { effect, Injectable, signal } from '@angular/core';

type Theme = 'light' | 'dark' | 'system';

function stored<T extends string>(key: string, fallback: T): T {
  return (localStorage.getItem(key) as T | null) ?? fallback;
}

/** Choices of this browser: theme, single keys. */
@Injectable({ providedIn: 'root' })
export class Preferences {
  readonly theme = signal<Theme>(stored('lx-theme', 'system'));
  readonly singleKeys = signal(stored('lx-keys', 'on') === 'on');

  constructor() {
    const dark = window.matchMedia('(prefers-color-scheme: dark)');
    const apply = () => {
      const theme = this.theme();
      document.documentElement.dataset['bsTheme'] = theme === 'system' ? (dark.matches ? 'dark' : 'light') : theme;
    };
    dark.addEventListener('change', apply);
    effect(() => {
      localStorage.setItem('lx-theme', this.theme());
      localStorage.setItem('lx-keys', this.singleKeys() ? 'on' : 'off');
      apply();
    });
  }

  nextTheme(): void {
    this.theme.update((t) => (t === 'light' ? 'dark' : t === 'dark' ? 'system' : 'light'));
  }
}
