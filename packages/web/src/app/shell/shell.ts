import { ChangeDetectionStrategy, Component, computed, DestroyRef, HostListener, inject, signal } from '@angular/core';
import { Router, RouterLink, RouterLinkActive, RouterOutlet } from '@angular/router';
import { NgbDropdownModule } from '@ng-bootstrap/ng-bootstrap/dropdown';
import { Idle } from '../data/idle';
import { Preferences } from '../data/preferences';
import { Confirmation } from '../data/confirmation';
import { Session } from '../data/session';
import { ConfirmDialog } from '../signin/confirm-dialog';
import { Brand } from './brand';
import { Finder } from './finder';
import { KeyboardHelp } from './keyboard-help';
import { Ledge } from './ledge';
import { MomentControl } from './moment-control';

interface Place {
  readonly name: string;
  readonly path: string;
  readonly key: string;
  readonly forClerk: boolean;
}

const places: readonly Place[] = [
  { name: 'Watch', path: '/watch', key: 'w', forClerk: false },
  { name: 'Estate', path: '/estate', key: 'e', forClerk: true },
  { name: 'Policies', path: '/policies', key: 'p', forClerk: false },
  { name: 'Runs', path: '/runs', key: 'r', forClerk: true },
  { name: 'Recover', path: '/recover', key: 'c', forClerk: true },
  { name: 'Storage', path: '/storage', key: 's', forClerk: false },
  { name: 'Reports', path: '/reports', key: 'o', forClerk: false },
  { name: 'Trust', path: '/trust', key: 't', forClerk: false },
];

/** Masthead, the place that is open, ledge; finder and keyboard. */
@Component({
  selector: 'lx-shell',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    RouterOutlet,
    RouterLink,
    RouterLinkActive,
    NgbDropdownModule,
    Brand,
    ConfirmDialog,
    Finder,
    KeyboardHelp,
    Ledge,
    MomentControl,
  ],
  templateUrl: './shell.html',
  styleUrl: './shell.scss',
})
export class Shell {
  protected readonly session = inject(Session);
  protected readonly preferences = inject(Preferences);
  protected readonly confirmation = inject(Confirmation);
  private readonly router = inject(Router);
  protected readonly finding = signal(false);
  protected readonly helping = signal(false);
  private waitingForPlace = false;
  private readonly idle = inject(Idle);

  constructor() {
    const watch = setInterval(() => {
      const minutes = this.session.me()?.idleMinutes;
      if (minutes && this.idle.pause() > minutes * 60_000) this.signOut();
    }, 15_000);
    inject(DestroyRef).onDestroy(() => {
      clearInterval(watch);
    });
  }

  @HostListener('document:pointerdown')
  @HostListener('document:keydown')
  @HostListener('document:wheel')
  protected act(): void {
    this.idle.note();
  }

  protected readonly places = computed(() => places.filter((p) => this.session.reads() || p.forClerk));
  protected readonly initials = computed(() =>
    (this.session.me()?.display ?? '')
      .split(/\s+/)
      .map((w) => w.charAt(0))
      .join('')
      .slice(0, 2)
      .toUpperCase(),
  );
  protected readonly themeWord = computed(
    () => ({ light: 'Light theme', dark: 'Dark theme', system: 'Theme as the system' })[this.preferences.theme()],
  );

  @HostListener('document:keydown', ['$event'])
  protected onKey(event: KeyboardEvent): void {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
      event.preventDefault();
      this.finding.set(this.session.reads());
      return;
    }
    const target = event.target as HTMLElement;
    if (
      event.ctrlKey ||
      event.metaKey ||
      event.altKey ||
      target.matches('input:not([type=checkbox]), textarea, select') ||
      !this.preferences.singleKeys()
    )
      return;
    if (this.waitingForPlace) {
      this.waitingForPlace = false;
      const place = this.places().find((p) => p.key === event.key);
      if (place) void this.router.navigate([place.path]);
    } else if (event.key === 'g') this.waitingForPlace = true;
    else if (event.key === '?') this.helping.set(true);
    else if (event.key === '/') {
      const filter = document.querySelector<HTMLInputElement>('[data-filter]');
      if (filter) {
        event.preventDefault();
        filter.focus();
      }
    }
  }

  protected signOut(): void {
    this.session.signOut().subscribe(() => void this.router.navigate(['/sign-in']));
  }
}
